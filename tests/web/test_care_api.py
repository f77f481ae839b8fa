"""Backups by a schedule and room on the disk: set in one place, kept in settings.toml, gone by at once."""

import pytest
from serving import Running

from tanner.catalogue import health
from tanner.core.limits import limits, take
from tanner.jobs.pictures import Pictures


@pytest.fixture(autouse=True)
def _as_before(server: Running) -> object:
    yield
    (server.folder / "data" / "settings.toml").unlink(missing_ok=True)
    take(server.folder / "data")
    server.services.take_budgets()


def test_a_backup_is_made_now_and_told(server: Running) -> None:
    before = server.get("/api/care")
    assert before["catalogue"]["bytes"] > 10_000 and {r["name"] for r in before["rooms"]} == {
        "previews",
        "blocks",
        "quiet",
    }
    pictures = sum(f.stat().st_size for f in (server.folder / "data" / "pictures").rglob("*.jpg"))
    assert before["rooms"][0]["bytes"] == pictures > 0
    after = server.post("/api/care/backup")
    newest = after["backups"][0]
    file = server.folder / "data" / "backups" / newest["name"]
    assert file.stat().st_size == newest["bytes"] and health.fault(file) == ""
    assert newest["name"] not in [b["name"] for b in before["backups"]]


def test_what_is_set_is_kept_and_gone_by(server: Running) -> None:
    data = server.folder / "data"
    told = server.post("/api/care", {"backup_hours": 0, "backups_kept": 2, "previews_gigabytes": 0.5})
    assert (told["hours"], told["kept"], told["rooms"][0]["gigabytes"]) == (0, 2, 0.5)
    assert (data / "settings.toml").read_text() == "previews_gigabytes = 0.5\nbackup_hours = 0.0\nbackups_kept = 2\n"
    assert server.services.pictures.budget == 500_000_000 and limits().backups_kept == 2
    for _ in range(3):
        server.post("/api/care/backup")
    assert len(health.backups(data)) == 2
    # None by itself; at once where it is asked for.
    for backup in health.backups(data):
        backup.unlink()
    assert server.services.care.back_up() is None and not health.backups(data)
    server.post("/api/care", {"backup_hours": 1})
    assert server.services.care.back_up() is not None
    # What was set before stays when something else is set.
    assert "backups_kept = 2" in (data / "settings.toml").read_text()
    assert "less than or equal to 1000" in str(server.post("/api/care", {"backups_kept": 5000}, expect=422))


def test_the_environment_counts_before_the_file(server: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TANNER_BACKUPS_KEPT", "3")
    limits.cache_clear()
    assert "TANNER_BACKUPS_KEPT" in server.post("/api/care", {"backups_kept": 9}, expect=422)["error"]
    assert server.post("/api/care", {"backups_kept": 3})["kept"] == 3
    monkeypatch.delenv("TANNER_BACKUPS_KEPT")
    limits.cache_clear()


def test_pictures_stay_within_their_budget_and_come_again(server: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    pictures: Pictures = server.services.pictures
    frames = server.get("/api/shoots/1/sheet")["frames"]
    files = {f["id"]: pictures.file(f["id"], f["v"]) for f in frames}
    assert all(p.exists() for p in files.values())
    sizes = {i: p.stat().st_size for i, p in files.items()}
    # All but one were looked at now: the one that was not goes.
    unused, *used = files
    for i in used:
        assert pictures.read(files[i])
    monkeypatch.setattr(pictures, "budget", sum(sizes.values()))
    pictures.count()
    assert files[unused].exists(), "within the budget all stay"
    monkeypatch.setattr(pictures, "budget", sum(sizes.values()) - 1)
    pictures._grown(0)
    assert not files[unused].exists() and sum(p.exists() for p in files.values()) >= len(files) - 2
    # With room again they are made when they are asked for.
    monkeypatch.undo()
    server.post("/api/shoots/1/want", {"frames": list(files)})
    assert pictures.wait(60) and all(p.exists() for p in files.values())
    assert server.client.get(f"/api/frames/{unused}/picture?v={frames[0]['v']}").status_code == 200
