"""Style and scripts: kept for good under a mark of what is in them, and asked for anew without it."""

from __future__ import annotations

import re

import pytest

from uchiwa.web.static_files import FOLDER, PATH, address


def test_a_page_names_every_file_with_its_mark(client, scene):
    for path in ("/", f"/jobs/{scene.job.id}", f"/jobs/{scene.job.id}/rounds/1/brief", "/account"):
        named = re.findall(r'(?:href|src)="(/static/[^"]+)"', client.get(path).text)
        assert len(named) > 3
        for one in named:
            assert one.startswith(f"{address()}/")
            assert client.get(one).status_code == 200


@pytest.mark.parametrize(
    ("at", "kept"),
    [(address(), "public, max-age=31536000, immutable"), (PATH, "no-cache"), (f"{PATH}/0123456789ab", "no-cache")],
)
def test_only_what_has_its_own_mark_is_kept_for_good(visitor, at, kept):
    answer = visitor.get(f"{at}/js/logs.js")
    assert answer.status_code == 200
    assert answer.content == (FOLDER / "js/logs.js").read_bytes()
    assert answer.headers["cache-control"] == kept
    assert visitor.get(f"{at}/../app.py").status_code == 404
    assert visitor.get(f"{at}/js/none.js").status_code == 404


def test_scripts_and_styles_name_each_other_by_relative_paths_so_that_the_mark_stays():
    own = [one for kind in ("js", "css") for one in FOLDER.rglob(f"*.{kind}") if "vendor" not in one.parts]
    absolute = [
        one.name for one in own if re.search(r"""(from|import)\s*\(?["']/|url\(["']?/static""", one.read_text())
    ]
    assert absolute == ["report.css"]  # whose fonts are put into the report itself
