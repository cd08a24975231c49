"""Calibrations as ASAM CDF: written to the standard's structure, read back equal, and taken from other programs."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from tests.conftest import make_table
from uchiwa.core.errors import BadInput
from uchiwa.core.tables.interchange import calibration_json, cdf
from uchiwa.core.tables.table import Calibration, Constant
from uchiwa.standin.fleet import car_named

SCHEMA = etree.RelaxNG(etree.parse(Path(__file__).with_name("cdf.rng")))
CARS = ("corvid-pike", "larkspur-tern", "bramble-wren")


@pytest.mark.parametrize("name", CARS)
def test_a_calibration_survives_and_has_the_standards_structure(name):
    base = car_named(name).base()
    written = cdf.dumps(base)
    assert SCHEMA.validate(etree.fromstring(written)), SCHEMA.error_log
    read = cdf.loads(written)
    assert read.left_out == ()
    assert calibration_json.dumps(read.calibration) == calibration_json.dumps(base)


@given(st.lists(st.floats(-1e12, 1e12, allow_nan=False), min_size=6, max_size=6))
def test_any_number_survives(values):
    base = Calibration("c", "C", (Constant("k", "other", values[0], "V"),), (make_table([values[:3], values[3:]]),))
    read = cdf.loads(cdf.dumps(base)).calibration
    assert read.tables[0].values.tolist() == base.tables[0].values.tolist()
    assert read.constants[0].value == values[0]


def test_an_edit_made_elsewhere_survives():
    base = car_named("corvid-pike").base()
    tree = etree.fromstring(cdf.dumps(base))
    first = tree.xpath("//SW-INSTANCE[SHORT-NAME='ve_main']//V")[0]
    before = float(first.text)
    first.text = repr(before + 2.5)
    read = cdf.loads(etree.tostring(tree), "edited.cdfx")
    assert read.calibration.table("ve_main").grid[0, 0] == before + 2.5
    rest = read.calibration.table("ve_main").grid.copy()
    rest[0, 0] = before
    assert np.array_equal(rest, base.table("ve_main").grid)


FOREIGN = """<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE MSRSW PUBLIC "-//ASAM//DTD CALIBRATION DATA FORMAT:V2.0.0:LAI:IAI:XML:CDF200.XSD//EN" "cdf_v2.0.0.sl.dtd">
<MSRSW><SHORT-NAME>DATA</SHORT-NAME><CATEGORY>CDF20</CATEGORY><SW-SYSTEMS><SW-SYSTEM><SHORT-NAME>S</SHORT-NAME>
<SW-INSTANCE-SPEC><SW-INSTANCE-TREE><SHORT-NAME>T</SHORT-NAME><CATEGORY>NO_VCD</CATEGORY>
<SW-INSTANCE><SHORT-NAME>VE_MAIN</SHORT-NAME><CATEGORY>MAP</CATEGORY>
<SW-VALUE-CONT><UNIT-DISPLAY-NAME>%</UNIT-DISPLAY-NAME><SW-VALUES-PHYS>
<VG><LABEL>40</LABEL><V>51</V><V>52</V><V>53</V></VG><VG><V>61</V><V>62</V><V>63</V></VG></SW-VALUES-PHYS></SW-VALUE-CONT>
<SW-AXIS-CONTS>
<SW-AXIS-CONT><CATEGORY>STD_AXIS</CATEGORY><UNIT-DISPLAY-NAME>hPa</UNIT-DISPLAY-NAME><SW-AXIS-INDEX>2</SW-AXIS-INDEX>
<SW-VALUES-PHYS><V>400</V><V>900</V></SW-VALUES-PHYS></SW-AXIS-CONT>
<SW-AXIS-CONT><CATEGORY>COM_AXIS</CATEGORY><SW-AXIS-INDEX>1</SW-AXIS-INDEX><SW-INSTANCE-REF>AX_N</SW-INSTANCE-REF></SW-AXIS-CONT>
</SW-AXIS-CONTS></SW-INSTANCE>
<SW-INSTANCE><SHORT-NAME>AX_N</SHORT-NAME><CATEGORY>COM_AXIS</CATEGORY><SW-VALUE-CONT><UNIT-DISPLAY-NAME>1/min</UNIT-DISPLAY-NAME>
<SW-VALUES-PHYS><V>1000</V><V>2000</V><V>3000</V></SW-VALUES-PHYS></SW-VALUE-CONT></SW-INSTANCE>
<SW-INSTANCE><SHORT-NAME>displacement</SHORT-NAME><CATEGORY>VALUE</CATEGORY><SW-VALUE-CONT><UNIT-DISPLAY-NAME>cc</UNIT-DISPLAY-NAME>
<SW-VALUES-PHYS><V>2100</V></SW-VALUES-PHYS></SW-VALUE-CONT></SW-INSTANCE>
<SW-INSTANCE><SHORT-NAME>OTHER</SHORT-NAME><CATEGORY>VALUE</CATEGORY><SW-VALUE-CONT><SW-VALUES-PHYS><V>1</V></SW-VALUES-PHYS></SW-VALUE-CONT></SW-INSTANCE>
<SW-INSTANCE><SHORT-NAME>TEXT</SHORT-NAME><CATEGORY>ASCII</CATEGORY><SW-VALUE-CONT><SW-VALUES-PHYS><VT>ab</VT></SW-VALUES-PHYS></SW-VALUE-CONT></SW-INSTANCE>
</SW-INSTANCE-TREE></SW-INSTANCE-SPEC></SW-SYSTEM></SW-SYSTEMS></MSRSW>"""


def test_another_programs_file_is_taken_into_a_calibration(calibration):
    read = cdf.loads(FOREIGN.encode(), "other.cdfx", calibration)
    table = read.calibration.table("ve_main")
    assert table.grid.tolist() == [[51, 52, 53], [61, 62, 63]]
    assert table.y.breakpoints.tolist() == [40, 90]
    assert table.x.breakpoints.tolist() == [1000, 2000, 3000]
    assert read.calibration.constant("displacement") == pytest.approx(2.1)
    assert read.taken == ("displacement", "ve_main")
    assert read.left_out == ("the calibration has no OTHER",)


@pytest.mark.parametrize(
    ("wrong", "right", "why"),
    [
        ("<V>53</V>", "", "rows are of different lengths"),
        ("<UNIT-DISPLAY-NAME>%</UNIT-DISPLAY-NAME>", "<UNIT-DISPLAY-NAME>bar</UNIT-DISPLAY-NAME>", None),
        ("<V>51</V>", "<V>NaN</V>", "“NaN” is not a number"),
        ("<V>51</V>", "<V>fast</V>", "“fast” is not a number"),
        (">CDF20<", ">PAR1<", "not CDF 2.x"),
        ("</MSRSW>", "", "not well-formed"),
        ("<SHORT-NAME>VE_MAIN</SHORT-NAME>", "", "has no name"),
    ],
)
def test_what_is_wrong_is_said(calibration, wrong, right, why):
    data = FOREIGN.replace(wrong, right, 1).encode()
    if why is not None:
        with pytest.raises(BadInput, match=why):
            cdf.loads(data, "other.cdfx", calibration)
        return
    read = cdf.loads(data, "other.cdfx", calibration)
    assert read.taken == ("displacement",)
    assert "Volumetric efficiency" in read.left_out[0]
    assert read.calibration.table("ve_main") is calibration.table("ve_main")


def test_another_size_is_left_out_whole(calibration):
    bigger = calibration.with_table(make_table([[1.0] * 3, [2.0] * 3]))
    data = FOREIGN.replace("<VG><V>61</V><V>62</V><V>63</V></VG>", "").encode()
    read = cdf.loads(data, "other.cdfx", bigger)
    assert "3 × 1 values in the file, 3 × 2 in the calibration" in read.left_out[0]
    assert read.calibration.table("ve_main") is bigger.table("ve_main")


def test_values_alone_need_a_calibration():
    with pytest.raises(BadInput, match="without saying what they are for"):
        cdf.loads(FOREIGN.encode(), "other.cdfx")


def test_hostile_xml_is_refused_and_nothing_is_fetched(calibration, tmp_path):
    secret = tmp_path / "secret"
    secret.write_text("open sesame")
    body = FOREIGN.partition("<MSRSW>")[2]
    bomb = "".join(f'<!ENTITY a{n + 1} "{f"&a{n};" * 10}">' for n in range(9))
    for entities, use in (
        (f'<!ENTITY x SYSTEM "file://{secret}">', "&x;"),
        (f'<!ENTITY a0 "ha">{bomb}', "&a9;"),
        ('<!ENTITY % p SYSTEM "http://127.0.0.1:9/x.dtd"> %p;', ""),
    ):
        data = f'<?xml version="1.0"?><!DOCTYPE MSRSW [{entities}]><MSRSW>{use}{body}'.encode()
        with pytest.raises(BadInput) as refused:
            cdf.loads(data, "hostile.cdfx", calibration)
        assert "sesame" not in str(refused.value)
    for data in (b"<a/>", b"<MSRSW/>", b"", b"<" * 1000, b"<MSRSW>" * 3000):
        with pytest.raises(BadInput):
            cdf.loads(data, "hostile.cdfx", calibration)
