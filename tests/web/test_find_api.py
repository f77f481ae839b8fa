"""Finding over all shoots by the API, and on the command line."""

import json
import shutil
from pathlib import Path

import pytest
from serving import Running
from typer.testing import CliRunner

from tanner.cli import app


@pytest.fixture(scope="module")
def found(server: Running) -> dict[str, int]:
    """How many frames there are of what, by what the shoot's own list says."""
    frames = server.get("/api/shoots/1/sheet")["frames"]
    return {"all": len(frames), "wide": sum(f["w"] >= f["h"] for f in frames), "first": frames[0]["id"]}


def test_frames_of_all_shoots_are_found_with_their_counts(server: Running, found: dict[str, int]) -> None:
    every = server.get("/api/find?q=shoot:spring")
    assert every["total"] == found["all"] == len(every["frames"])
    wide = server.get("/api/find?q=wide shoot:spring")
    assert wide["total"] == found["wide"] and all(f["shootName"] for f in wide["frames"])
    told = server.get("/api/find/facets?q=wide shoot:spring")
    assert told["total"] == found["wide"]
    stars = next((g for g in told["facets"] if g["title"] == "Verdict"), None)
    assert stars is None or sum(v["count"] for v in stars["values"]) == found["wide"]
    answer = server.client.get("/api/find?q=stars>=x")
    assert answer.status_code == 422 and "Search: at character 1" in answer.json()["error"]


def test_marks_go_to_frames_of_any_shoot_and_are_undone_there(server: Running, found: dict[str, int]) -> None:
    server.post("/api/marks", {"frames": [found["first"]], "stars": 5, "label": "blue"})
    assert server.get("/api/find?q=stars=5 label:blue")["total"] == 1
    assert server.post("/api/shoots/1/undo")["done"] == "stars 5, label blue"
    assert server.get("/api/find?q=stars=5 label:blue")["total"] == 0


def test_searches_and_collections(server: Running, found: dict[str, int]) -> None:
    kept = server.post("/api/find/searches", {"name": "Wide ones", "expression": "wide shoot:spring"})["id"]
    made = server.post("/api/collections", {"name": "Folio"})["id"]
    ids = server.get("/api/find/ids?sort=name&q=shoot:spring")["frames"][:3]
    assert server.post(f"/api/collections/{made}/add", {"frames": ids})["added"] == 3
    server.post(f"/api/collections/{made}/order", {"frames": [ids[2]], "before": ids[0]})
    shown = server.get(f"/api/find?collection={made}&sort=hand")["frames"]
    assert [f["id"] for f in shown] == [ids[2], ids[0], ids[1]]
    told = server.get("/api/find/kept")
    assert [(s["name"], s["count"]) for s in told["searches"]] == [("Wide ones", found["wide"])]
    assert [(c["name"], c["count"]) for c in told["collections"]] == [("Folio", 3)]
    server.post(f"/api/collections/{made}/name", {"name": "Book"})
    server.post(f"/api/collections/{made}/remove", {"frames": ids[:1]})
    assert server.get("/api/find?q=collection:book")["total"] == 2
    assert server.client.delete(f"/api/collections/{made}").status_code == 200
    assert server.client.delete(f"/api/find/searches/{kept}").status_code == 200
    assert server.client.get(f"/api/find?collection={made}").status_code == 422


def test_the_command_line_finds_backs_up_and_compacts(server: Running, found: dict[str, int], tmp_path: Path) -> None:
    data = tmp_path / "data"
    shutil.copytree(
        server.services.catalogue.folder,
        data,
        ignore=shutil.ignore_patterns("server.lock", "pictures", "small", "quiet"),
    )
    run = CliRunner().invoke
    lines = run(app, ["find", "wide shoot:spring", "--json", "--data", str(data)]).output.splitlines()
    assert len(lines) == found["wide"] and json.loads(lines[0])["path"].endswith(".DNG")
    paths = run(app, ["find", "wide shoot:spring", "--paths", "--most", "2", "--data", str(data)]).output.splitlines()
    assert len(paths) == 2 and all(Path(p).is_absolute() for p in paths)
    none = run(app, ["find", "zebra", "--data", str(data)])
    assert none.exit_code == 1 and none.output == ""
    backup = run(app, ["catalogue", "backup", "--data", str(data)])
    assert backup.exit_code == 0 and "checked" in backup.output
    assert list((data / "backups").glob("catalogue-*.sqlite"))
    assert "MB now" in run(app, ["catalogue", "compact", "--data", str(data)]).output
    assert (
        len(run(app, ["find", "wide shoot:spring", "--paths", "--data", str(data)]).output.splitlines())
        == found["wide"]
    )
    (data / "catalogue.sqlite").write_bytes(b"damaged" * 100)
    assert "took its place" in run(app, ["catalogue", "restore", "--data", str(data)]).output
    assert (
        len(run(app, ["find", "wide shoot:spring", "--paths", "--data", str(data)]).output.splitlines())
        == found["wide"]
    )
