"""Only this machine's own pages are answered, and paths stay in the folders that were opened."""

import json
from pathlib import Path

import pytest
from serving import Running
from websockets.exceptions import InvalidStatus
from websockets.sync.client import connect

from tanner.core.errors import NotAllowed, TannerError
from tanner.web.serving.folders import Folders
from tanner.web.serving.serve import listen


@pytest.mark.parametrize(
    "host", ["evil.example", "evil.example:8470", "127.0.0.1.evil.example", "", "[bad", "192.168.1.7"]
)
def test_foreign_hosts_are_refused(server: Running, host: str) -> None:
    answer = server.client.get("/api/shoots/1/sheet", headers={"host": host})
    assert answer.status_code in (400, 403)


@pytest.mark.parametrize("origin", ["http://evil.example", "null", "https://127.0.0.1", "http://127.0.0.1:1"])
def test_foreign_origins_are_refused(server: Running, origin: str) -> None:
    answer = server.client.post("/api/shoots", json={"name": "x"}, headers={"origin": origin})
    assert answer.status_code == 403
    with pytest.raises(InvalidStatus):
        connect(f"ws://127.0.0.1:{server.port}/ws/bench", origin=origin)  # type: ignore[arg-type]


def test_a_socket_without_an_origin_is_refused(server: Running) -> None:
    with pytest.raises(InvalidStatus):
        connect(f"ws://127.0.0.1:{server.port}/ws/bench")


def test_own_pages_are_answered(server: Running) -> None:
    for host in (f"127.0.0.1:{server.port}", f"localhost:{server.port}"):
        answer = server.client.get("/", headers={"host": host, "origin": f"http://{host}"})
        assert answer.status_code == 200
        assert "default-src 'self'" in answer.headers["content-security-policy"]
        assert answer.headers["x-content-type-options"] == "nosniff"


def test_the_server_listens_on_this_machine_only() -> None:
    listening = listen(0)
    assert listening.getsockname()[0] == "127.0.0.1"
    listening.listen()
    with pytest.raises(TannerError, match="cannot be used"):
        listen(listening.getsockname()[1])
    listening.close()


def test_paths_stay_in_opened_folders(tmp_path: Path) -> None:
    inside = tmp_path / "open" / "a"
    inside.mkdir(parents=True)
    (tmp_path / "secret").mkdir()
    (tmp_path / "open" / "way-out").symlink_to(tmp_path / "secret")
    (tmp_path / "open-too").mkdir()
    folders = Folders([tmp_path / "open"])
    assert folders.allow(str(inside)) == inside.resolve()
    for text in (
        str(tmp_path),
        str(tmp_path / "secret"),
        str(tmp_path / "open" / ".." / "secret"),
        str(tmp_path / "open" / "way-out"),
        str(tmp_path / "open-too"),
        "relative",
        "",
        f"{inside}\0",
        "~",
    ):
        with pytest.raises(NotAllowed):
            folders.allow(text)
    listing = folders.listing(str(tmp_path / "open"))
    assert listing["folders"] == [str(inside)] and listing["up"] == ""


@pytest.mark.parametrize(
    ("path", "body"),
    [
        ("/api/shoots/1/import", {"files": ["/etc/passwd"]}),
        ("/api/shoots/1/known", {"files": ["/etc/passwd"]}),
        ("/api/shoots/1/plan", {"frames": [1], "specs": [{}], "folder": "/etc"}),
        ("/api/shoots/1/deliver", {"frames": [1], "specs": [{}], "folder": "/etc"}),
    ],
)
def test_pages_cannot_name_other_folders(server: Running, path: str, body: dict[str, object]) -> None:
    assert "not in a folder that was opened" in server.post(path, body, 403)["error"]
    assert "error" in server.get("/api/folders?path=/etc", 403)
    assert "error" in server.get("/api/shoots/1/found?path=/etc", 403)


@pytest.mark.parametrize(
    ("path", "body", "words"),
    [
        ("/api/edit", {"frames": [1], "values": {"light.exposure": 99}}, "exposure"),
        ("/api/edit", {"frames": [1], "values": {"light.nothing": 1}}, "no adjustment"),
        ("/api/edit", {"frames": [], "values": {}}, "frames"),
        ("/api/edit", {"frames": [9999], "values": {}}, "no longer there"),
        ("/api/edit", {"frames": [1], "values": {}, "evil": 1}, "evil"),
        ("/api/apply", {"frames": [1], "key": "shipped/../../x"}, "preset"),
        ("/api/marks", {"frames": [1], "stars": 9}, "stars"),
        ("/api/sets/move", {"frames": [1], "set": 999}, "no longer there"),
        ("/api/deliveries/99/resume", {}, "no longer there"),
        ("/api/shoots/99/preset", {"key": None}, "no longer there"),
        ("/api/shoots/1/plan", {"frames": [1], "specs": [{"size": "huge"}], "folder": "/x"}, "size"),
    ],
)
def test_wishes_that_make_no_sense_get_a_message(
    server: Running, path: str, body: dict[str, object], words: str
) -> None:
    assert words in server.post(path, body, 422)["error"]


@pytest.mark.parametrize(
    "message",
    [
        "no json",
        "[]",
        "{}",
        '{"id": 1}',
        '{"probe": "x"}',
        json.dumps({"id": 1, "frame": 1, "view": {"width": 1e9, "height": 1}}),
    ],
)
def test_a_socket_closes_on_nonsense(server: Running, message: str) -> None:
    from websockets.exceptions import ConnectionClosed

    with server.socket() as line:
        line.send(message)
        with pytest.raises(ConnectionClosed):
            line.recv(timeout=20)
