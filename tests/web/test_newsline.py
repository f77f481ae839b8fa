"""The line of news: counters that rise, nothing lost over a line that was lost, and no news from elsewhere."""

import json
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest
from serving import Running, with_lamps
from websockets.exceptions import InvalidStatus
from websockets.sync.client import connect

from tanner.catalogue.news import News


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory, originals: Path) -> Iterator[Running]:
    with with_lamps(tmp_path_factory.mktemp("news"), originals, 2) as result:
        yield result


def _moved(line: object, topic: str, since: int) -> int:
    """Reads until a topic's counter is beyond a number."""
    for _ in range(200):
        found = json.loads(line.recv(timeout=60))  # type: ignore[attr-defined]
        if found.get(topic, 0) > since:
            return int(found[topic])
    raise AssertionError(f"no news of {topic}")


def test_counters_rise_and_listeners_are_woken_until_they_go() -> None:
    news, woken = News(), []
    with news.heard_by(lambda: woken.append(1)):
        threads = [threading.Thread(target=lambda: [news.tell("work") for _ in range(50)]) for _ in range(4)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
    news.tell("frames")
    assert len(woken) == 200 and news.counts() == {"work": 200, "frames": 1}


def test_a_change_is_told_and_one_that_was_missed_is_seen_at_the_next_line(server: Running) -> None:
    with server.socket("/ws/news") as line:
        at_first = json.loads(line.recv(timeout=60))
        server.post("/api/shoots", {"name": "Another"})
        told = _moved(line, "frames", at_first.get("frames", 0))
    server.post("/api/shoots", {"name": "And another"})
    with server.socket("/ws/news") as again:
        at_last = json.loads(again.recv(timeout=60))
        assert at_last["frames"] > told and at_last["began"] == at_first["began"]


def test_pages_of_elsewhere_hear_nothing(server: Running) -> None:
    with pytest.raises(InvalidStatus) as refused:
        connect(f"ws://127.0.0.1:{server.port}/ws/news", origin="http://elsewhere.example")  # type: ignore[arg-type]
    assert refused.value.response.status_code == 403
