"""The Sheet's data by what changed: whoever merges it has what all of it says."""

import random
import shutil
from pathlib import Path
from typing import Any

import pytest
from tests.serving import Running

Rows = dict[int, dict[str, Any]]


class Page:
    """Keeps the frames of a shoot as a page does, and counts the rows that were sent."""

    def __init__(self, server: Running, shoot: int) -> None:
        self.server, self.url = server, f"/api/shoots/{shoot}/sheet"
        self.rows: Rows = {}
        self.known = ""
        self.sent = 0

    def look(self) -> None:
        told = self.server.get(self.url + self.known)
        self.sent = len(told["frames"])
        self.rows = {} if told["whole"] else {i: r for i, r in self.rows.items() if i not in told["gone"]}
        self.rows |= {f["id"]: f for f in told["frames"]}
        self.known = f"?since={told['tick']}&basis={told['basis']}"
        assert len(self.rows) == told["total"]

    def all(self) -> Rows:
        return {f["id"]: f for f in self.server.get(self.url)["frames"]}


@pytest.fixture
def page(server: Running) -> Page:
    shoot = server.post("/api/shoots", {"name": "Changes"})["id"]
    # Copies: a file of two shoots would not go into the trash in other tests.
    folder = server.folder / "photos" / f"changes-{shoot}"
    folder.mkdir()
    copies = [shutil.copy(path, folder / path.name) for path in sorted((server.folder / "photos").glob("T*.DNG"))[:5]]
    server.bring_in(shoot, [Path(path) for path in copies])
    # Making pictures writes what it learned of frames: those are changes, too.
    server.until(f"/api/shoots/{shoot}/pictures?since=0", lambda told: not told["pending"])
    found = Page(server, shoot)
    found.look()
    assert found.sent == len(found.rows) >= 4
    return found


def test_only_what_changed_is_sent(server: Running, page: Page) -> None:
    page.look()
    assert page.sent == 0
    one, two, *_ = sorted(i for i, r in page.rows.items() if not r["lead"])
    server.post("/api/marks", {"frames": [one], "stars": 4})
    page.look()
    assert page.sent == 1 and page.rows == page.all()
    server.post("/api/take-out", {"frames": [two]})
    page.look()
    assert page.sent == 0 and two not in page.rows and page.rows == page.all()


def test_what_follows_a_changed_lead_is_sent_with_it(server: Running, page: Page) -> None:
    ids = sorted(page.rows)
    server.post("/api/sets/move", {"frames": ids})
    page.look()
    lead = next(i for i, r in page.rows.items() if r["lead"])
    before = {i: r["v"] for i, r in page.rows.items()}
    server.post("/api/edit", {"frames": [lead], "values": {"light.exposure": 0.7}})
    page.look()
    assert page.sent == len(ids) and page.rows == page.all()
    assert all(page.rows[i]["v"] != v for i, v in before.items())
    follower = next(i for i in ids if i != lead)
    server.post("/api/edit", {"frames": [follower], "values": {"light.contrast": 7.0}})
    page.look()
    assert page.sent == 1 and page.rows == page.all()


def test_whatever_is_done_in_whatever_order(server: Running, page: Page) -> None:
    rng, ids = random.Random(4), sorted(page.rows)
    shoot = page.url.split("/")[3]
    for _ in range(25):
        some = rng.sample(ids, rng.randint(1, len(ids)))
        what = rng.choice(["stars", "edit", "move", "lead", "undo", "redo", "preset", "place", "words", "alternate"])
        if what == "stars":
            server.post("/api/marks", {"frames": some, "stars": rng.randint(0, 5)})
        elif what == "edit":
            server.post("/api/edit", {"frames": some, "values": {"light.exposure": rng.randint(-20, 20) / 10}})
        elif what == "move":
            server.post("/api/sets/move", {"frames": some})
        elif what == "lead":
            server.post(f"/api/frames/{some[0]}/lead", {})
        elif what in ("undo", "redo"):
            server.post(f"/api/shoots/{shoot}/{what}")
        elif what == "preset":
            key = rng.choice([None, *(p["key"] for p in server.get("/api/presets")["presets"][:3])])
            server.post(f"/api/shoots/{shoot}/preset", {"key": key})
        elif what == "place":
            server.post(f"/api/shoots/{shoot}/place", {"frames": some[:1], "before": None})
        elif what == "words":
            server.post("/api/keywords/change", {"frames": some, "add": [f"k{rng.randint(0, 3)}"]})
        else:
            server.post("/api/alternates", {"frames": some[:1]})
        page.look()
        assert page.rows == page.all(), what
