import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.conftest import make_log
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.readers import READ_LIMIT_BYTES, check_size, columns, read_log
from uchiwa.standin.logger import write_delimited

GOOD = "Time [s],RPM [rpm],MAP [kPa],ECT [°F]\n0,800,40,212\n0.1,810,,213\n0.2,820,42,214\n"


def test_names_units_and_gaps():
    log = read_log(GOOD.encode(), "a.csv")
    found = log.quantities
    assert found["engine_speed"].values.tolist() == [800, 810, 820]
    assert found["coolant_temperature"].values == pytest.approx([100, 100.5556, 101.1111], abs=1e-3)
    assert found["manifold_pressure"].values.tolist() == [40, 40, 42]
    assert log.rasters[0].time.tolist() == [0, 0.1, 0.2]
    assert log.rasters[0].rate == pytest.approx(10)
    assert "°F → degC" in found["coolant_temperature"].reason


@pytest.mark.parametrize("delimiter", [",", ";", "\t", "|"])
@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "latin-1"])
@pytest.mark.parametrize("newline", ["\n", "\r\n"])
def test_delimiters_encodings_and_line_ends(delimiter, encoding, newline):
    data = GOOD.replace(",", delimiter).replace("\n", newline).encode(encoding)
    found = read_log(data, "a.txt").quantities
    assert found["engine_speed"].values.tolist() == [800, 810, 820]
    assert found["coolant_temperature"].values[0] == pytest.approx(100)


def test_notes_and_time_in_milliseconds():
    log = read_log(b"# revision: pike 2\n# drive: idle\ntime (ms),engine speed (rpm)\n500,1\n750,2\n", "a.csv")
    assert dict(log.notes) == {"revision": "pike 2", "drive": "idle"}
    assert log.rasters[0].time.tolist() == [0, 0.25]


def test_rows_whose_time_does_not_advance_are_left_out_and_counted():
    log = read_log(b"time,rpm\n0,1\n1,2\n1,3\n0.5,4\n,5\n2,6\n", "a.csv")
    assert log.quantities["engine_speed"].values.tolist() == [1, 2, 6]
    assert [(repair.kind, repair.count) for repair in log.repairs] == [("time", 3)]


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"", "the file is empty"),
        (b"  \n \n", "the file is empty"),
        (b"time,rpm\n", "a header and no rows"),
        (b"time,rpm\n1,2\n", "only one row"),
        (b"time,rpm\na,b\nc,d\n", "not one number"),
        (b"time [s],MAP [kPa]\n0,40\n1,41\n", "no engine speed"),
        (b"alpha,rpm\n0,40\n1,41\n", "no time column"),
        (b"time [s],rpm\n5,40\n5,41\n", "times do not advance"),
        (b"\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR" * 20, "not a text file"),
        (bytes(range(256)) * 40, "not a text file"),
        (b"just some words\nand more words\n", "not columns of a log"),
    ],
)
def test_bad_files_get_one_clear_sentence(data, said):
    with pytest.raises(BadInput) as error:
        read_log(data, "log.csv")
    text = str(error.value)
    assert said in text
    assert text.startswith("log.csv: ")
    assert "\n" not in text
    assert text.endswith(".")


def test_too_large_a_file_is_refused_by_its_size():
    check_size(READ_LIMIT_BYTES, "a.csv")
    with pytest.raises(BadInput, match="200 MB, and logs are read up to 160 MB"):
        check_size(200_000_000, "a.csv")


def test_the_first_of_two_equally_sure_channels_for_one_quantity_counts():
    log = read_log(b"time,rpm,revs\n0,1,5\n1,2,6\n", "a.csv")
    assert log.quantities["engine_speed"].values.tolist() == [1, 2]
    assert log.rasters[0].channels[1].quantity is None
    assert "already taken" in log.rasters[0].channels[1].reason


def test_unknown_names_and_units_stay_with_a_reason():
    log = read_log(b"time,rpm,Foo [x],MAP [degC],IAT [yards]\n0,1,5,1,1\n1,2,6,1,1\n", "a.csv")
    reasons = {channel.name: channel.reason for channel in log.rasters[0].channels}
    assert "no quantity" in reasons["Foo"]
    assert "does not measure that" in reasons["MAP"]
    assert "not known" in reasons["IAT"]


@settings(max_examples=40)
@given(
    st.lists(
        st.tuples(
            st.floats(0, 9000).map(lambda value: round(value, 1)), st.floats(40, 250).map(lambda value: round(value, 1))
        ),
        min_size=2,
        max_size=40,
    )
)
def test_what_the_standin_logger_writes_reads_back(rows):
    speed, pressure = np.array(rows).T
    log = make_log(rate=25, engine_speed=speed, manifold_pressure=pressure)
    back = read_log(write_delimited(log).encode(), "drive.csv")
    assert back.quantities["engine_speed"].values == pytest.approx(speed, rel=1e-5)
    assert back.quantities["manifold_pressure"].values == pytest.approx(pressure, rel=1e-5)
    assert back.rasters[0].time == pytest.approx(log.rasters[0].time, abs=1e-3)


@settings(max_examples=150)
@example(b'\x1a"', 61)
@given(st.binary(max_size=400), st.integers(0, 70))
def test_mutated_files_give_a_log_or_one_sentence(noise, at):
    data = GOOD.encode()[:at] + noise + GOOD.encode()[at:]
    try:
        read_log(data, "a.csv")
    except BadInput as error:
        assert "\n" not in str(error)


@pytest.mark.parametrize(
    ("panic", "raised"), [("Os { code: 11, kind: WouldBlock }", MemoryError), ("index 3", BadInput)]
)
def test_a_thread_that_could_not_be_had_is_no_fault_of_the_rows(monkeypatch, panic, raised):
    def panics(*_: object) -> None:
        raise columns.pl.exceptions.PanicException(panic)

    monkeypatch.setattr(columns, "_csv", panics)
    with pytest.raises(raised):
        read_log(b"time,speed\n" + b"".join(b"%d,800\n" % row for row in range(50)), "drive.csv")
