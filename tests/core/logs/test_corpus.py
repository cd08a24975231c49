import io
import random
import tracemalloc

import numpy as np
import pytest
from asammdf import MDF
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.logs.corpus import ROWS, Case, corpus, known_log, three_rasters
from tests.seeds import seeds
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.logs.readers import read_recordings, read_unrecognised
from uchiwa.core.logs.writers import write_log
from uchiwa.core.logs.writers.delimited import Dialect, write_text

CORPUS = corpus()


def test_the_corpus_is_large_and_its_names_are_unique():
    assert len(CORPUS) >= 60
    assert len({case.name for case in CORPUS}) == len(CORPUS)


@pytest.mark.parametrize("case", CORPUS, ids=[case.name for case in CORPUS])
def test_every_file_of_the_corpus_is_read_as_it_should(case: Case):
    recordings = read_recordings(case.data, "log.any", case.knowledge)
    assert len(recordings) == case.recordings
    for log in recordings:
        assert len(log.rasters) == case.rasters
        found = log.quantities
        for quantity, truth in case.truth.items():
            np.testing.assert_allclose(found[quantity].values, truth, rtol=case.tolerance, atol=case.tolerance * 50)
        if case.time is not None:
            np.testing.assert_allclose(log.rasters[0].time, case.time, atol=2e-6)
        assert {repair.kind for repair in log.repairs if repair.kind != "text"} >= set(case.repairs)
        assert {quantity for quantity, channel in found.items() if channel.doubt} == set(case.doubted)


@pytest.mark.parametrize("version", ["3.30", "4.10"])
def test_mdf_reads_equal_to_asammdf_itself(version):
    data = three_rasters(version)
    log = read_unrecognised(data, "a.mf4")[0]
    own = {channel.name: (raster.time, channel.values) for raster in log.rasters for channel in raster.channels}
    with MDF(io.BytesIO(data)) as mdf:
        for number in range(3):
            for index in range(1, len(mdf.groups[number].channels)):
                signal = mdf.get(group=number, index=index)
                time, values = own[signal.name]
                np.testing.assert_array_equal(time, signal.timestamps)
                if signal.samples.dtype.kind == "S":
                    np.testing.assert_array_equal(values, (signal.samples == b"CL").astype(float))
                else:
                    np.testing.assert_array_equal(values, signal.samples)
    assert sorted(len(raster.channels) for raster in log.rasters) == [1, 1, 3]


def _mutate(data: bytes, rng: random.Random) -> bytes:
    changed = bytearray(data)
    kind = rng.randrange(4)
    if kind == 0:
        for _ in range(rng.randrange(1, 40)):
            changed[rng.randrange(len(changed))] ^= 1 << rng.randrange(8)
    elif kind == 1:
        del changed[rng.randrange(len(changed)) :]
    elif kind == 2:
        size = max(1, len(changed) // 12)
        blocks = [changed[at : at + size] for at in range(0, len(changed), size)]
        rng.shuffle(blocks)
        changed = bytearray().join(blocks)
    else:
        at = rng.randrange(len(changed))
        changed[at : at + rng.randrange(1, 60)] = rng.randbytes(rng.randrange(80))
    return bytes(changed)


def test_mutated_files_give_a_log_or_one_sentence():
    rng, count = random.Random(5), seeds(120, 2000)
    logs = refusals = 0
    for number in range(count):
        case = CORPUS[number % len(CORPUS)]
        data = _mutate(case.data, rng)
        measured = number % 4 == 0
        if measured:
            tracemalloc.start()
        try:
            recordings = read_recordings(data, "log.any", case.knowledge)
            assert all(np.diff(raster.time).min() > 0 for log in recordings for raster in log.rasters)
            logs += 1
        except BadInput as error:
            assert "\n" not in str(error)
            assert len(str(error)) < 600
            refusals += 1
        finally:
            peak = tracemalloc.get_traced_memory()[1] if measured else 0
            tracemalloc.stop()
        assert peak < 4 * len(data) + 8_000_000
    assert logs > 0.3 * count
    assert refusals > 0.15 * count


@st.composite
def dialects(draw: st.DrawFn) -> Dialect:
    delimiter = draw(st.sampled_from([",", ";", "\t", "|"]))
    comma = draw(st.booleans())
    return Dialect(
        delimiter=delimiter,
        comma=comma,
        quote=draw(st.booleans()) or (comma and delimiter == ","),
        newline=draw(st.sampled_from(["\n", "\r\n"])),
        encoding=draw(st.sampled_from(["utf-8", "utf-8-sig", "utf-16", "latin-1"])),
        units=draw(st.sampled_from(["brackets", "parentheses", "row", "name", "none"])),
        time=draw(st.sampled_from(["s", "ms", "us", "h:m:s", "clock", "date", "rate"])),
        starts=draw(st.sampled_from([0.0, 40_000.0, 86_395.5])),
        preamble=tuple(
            draw(
                st.lists(
                    st.sampled_from(["Export of a drive", "Car: Bramble Wren", "Rounds;3"]), max_size=3, unique=True
                )
            )
        ),
        trailing=draw(st.booleans()),
        header_every=draw(st.sampled_from([0, 0, 37])),
        words=draw(st.sampled_from([{}, {"Closed loop": {0.0: "Open", 1.0: "Closed"}}])),
        last_line_end=draw(st.booleans()),
    )


@settings(max_examples=seeds(80, 200))
@given(dialects())
def test_any_dialect_reads_back_to_the_same_log(dialect):
    log = known_log()
    back = read_recordings(write_text(log, dialect), "log.txt")
    assert len(back) == 1
    np.testing.assert_allclose(back[0].rasters[0].time, log.rasters[0].time, atol=1e-6)
    for channel in log.rasters[0].channels:
        np.testing.assert_array_equal(back[0].quantities[channel.quantity].values, channel.values)


@settings(max_examples=seeds(30, 60))
@given(
    st.lists(st.floats(300, 9000, allow_nan=False).map(lambda value: round(value, 2)), min_size=3, max_size=60),
    st.sampled_from([",", ";", "\t", "|"]),
    st.booleans(),
)
def test_any_numbers_read_back_in_any_delimiter(values, delimiter, comma):
    time = np.arange(len(values)) * 0.1
    log = Log("a", (Raster(time, (Channel("RPM", "rpm", np.array(values)),)),))
    data = write_text(log, Dialect(delimiter=delimiter, comma=comma, quote=comma))
    np.testing.assert_array_equal(read_recordings(data, "a.csv")[0].quantities["engine_speed"].values, values)


@pytest.mark.parametrize("kind", ["csv", "parquet", "mf4"])
def test_logs_go_out_and_come_back(kind):
    log = known_log()
    back = read_recordings(write_log(log, kind), f"a.{kind}")[0]
    for channel in log.rasters[0].channels:
        np.testing.assert_array_equal(back.quantities[channel.quantity].values, channel.values)
    assert back.rasters[0].time.size == ROWS


def test_bombs_and_locked_archives_are_refused(monkeypatch):
    import gzip
    import zipfile

    from uchiwa.core.logs import readers

    monkeypatch.setattr(readers, "READ_LIMIT_BYTES", 1_000_000)
    with pytest.raises(BadInput, match="unpacked it has more than 1 MB"):
        read_recordings(gzip.compress(b"0," * 5_000_000), "bomb.gz")
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("a.csv", b"0," * 5_000_000)
    with pytest.raises(BadInput, match="unpacked it has more than 1 MB"):
        read_recordings(stream.getvalue(), "bomb.zip")
    nested = gzip.compress(gzip.compress(gzip.compress(b"time,rpm\n0,1\n1,2\n")))
    with pytest.raises(BadInput, match="packed more than twice"):
        read_recordings(nested, "nested.gz")
    with pytest.raises(BadInput, match="breaks off"):
        read_recordings(gzip.compress(b"time,rpm\n0,1\n" * 2000)[:60], "cut.gz")
    many = io.BytesIO()
    with zipfile.ZipFile(many, "w") as archive:
        for number in range(60):
            archive.writestr(f"{number}.csv", b"x")
    with pytest.raises(BadInput, match="60 files"):
        read_recordings(many.getvalue(), "many.zip")
