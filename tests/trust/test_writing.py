"""What is written: nowhere but in the folder that was chosen, and nothing that a spreadsheet or a program takes for a command."""

import csv
import io
import shutil
import subprocess
from pathlib import Path

import pytest

from tanner.core.errors import WriteFailed
from tanner.core.output.files import stay_within
from tanner.jobs.delivery.documents import checksums_of, table_of
from tanner.jobs.delivery.tasks import develop_file

SPEC = {"title": "Web", "size": "long:80", "subfolder": "web"}


def test_a_link_in_a_folder_does_not_lead_out_of_it(originals: Path, tmp_path: Path) -> None:
    out, outside = tmp_path / "out", tmp_path / "outside"
    out.mkdir(), outside.mkdir()
    (out / "web").symlink_to(outside)
    (made,) = develop_file(str(originals / "T0001.DNG"), {}, [SPEC], str(out))
    assert "leads out of" in str(made["error"]) and not list(outside.iterdir())
    (made,) = develop_file(
        str(originals / "T0001.DNG"), {}, [SPEC], "", targets=[str(out / "web" / "a.jpg")], within=str(out)
    )
    assert "leads out of" in str(made["error"]) and not list(outside.iterdir())
    (out / "web").unlink()
    (made,) = develop_file(str(originals / "T0001.DNG"), {}, [SPEC], str(out))
    assert "error" not in made and (out / "web" / "T0001.jpg").exists()


def test_links_that_stay_or_lie_above_are_fine(tmp_path: Path) -> None:
    real = tmp_path / "real"
    (real / "a").mkdir(parents=True)
    (tmp_path / "named").symlink_to(real)
    (real / "b").symlink_to(real / "a")
    stay_within(tmp_path / "named", tmp_path / "named" / "b" / "new" / "x.jpg")
    (real / "gone").symlink_to(tmp_path / "nothing")
    with pytest.raises(WriteFailed, match="leads"):
        stay_within(real, real / "gone" / "x.jpg")


def record(folder: Path, names: list[str]) -> dict[str, object]:
    from tanner.core.output.files import file_hash

    row = {"name": "", "spec": 0, "state": "done", "width": 1, "height": 1, "bytes": 1, "message": "", "seconds": 0}
    items = []
    for name in names:
        path = folder / name
        path.write_bytes(name.encode())
        items.append({**row, "frame": 1, "name": name, "path": str(path), "sha256": file_hash(path)})
    return {"folder": str(folder), "specs": [{"title": "Web"}], "items": items}


def test_checksums_are_taken_by_sha256sum(tmp_path: Path) -> None:
    assert shutil.which("sha256sum")
    made = record(tmp_path, ["-c", "--help.jpg", "a b.jpg", "back\\slash.jpg", "line\nend.jpg"])
    (tmp_path / "sums").write_bytes(checksums_of(made))
    done = subprocess.run(["sha256sum", "--strict", "-c", "sums"], cwd=tmp_path, capture_output=True, text=True)
    assert done.returncode == 0 and done.stdout.count("OK") == 5, done


@pytest.mark.parametrize("begin", ["=", "\t=", " +", "\r\n@", "\u00a0-", "＝", "\ufeff="])
def test_a_text_that_a_spreadsheet_takes_for_a_formula(tmp_path: Path, begin: str) -> None:
    from tanner.jobs.delivery.documents import COLUMNS

    made = record(tmp_path, ["a.jpg"])
    for item in made["items"]:  # type: ignore[attr-defined]
        item |= {c: item.get(c, "") for c in COLUMNS} | {"message": f"{begin}1+1"}
    (row,) = csv.DictReader(io.StringIO(table_of(made).decode("utf-8-sig"), newline=""))
    assert row["message"].startswith("'")
