"""Requests that nobody means: answered with a word, never with an error inside; and none larger than it may be."""

import http.client
import json
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from serving import Running, running


@pytest.fixture(scope="module")
def server(originals: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    folder = tmp_path_factory.mktemp("trust")
    with running(folder) as result:
        odd = folder / "photos" / 'line\nend".DNG'
        shutil.copy(originals / "T0001.DNG", odd)
        result.post("/api/shoots", {"name": "Spring"})
        result.bring_in(1, [odd])
        yield result


def ask(
    server: Running, method: str, path: str, body: bytes = b"", **headers: str
) -> tuple[int, dict[str, str], bytes]:
    connection = http.client.HTTPConnection("127.0.0.1", server.port, timeout=60)
    connection.putrequest(method, path, skip_host="host" in headers)
    connection.putheader("authorization", f"Bearer {server.services.token}")
    given = {"content-type": "application/json", "content-length": str(len(body))} | headers
    for name, value in given.items():
        connection.putheader(name, value)
    connection.endheaders(body if body else None)
    answer = connection.getresponse()
    found = answer.status, dict(answer.getheaders()), answer.read()
    connection.close()
    return found


HUGE = 2**70


@pytest.mark.parametrize(
    ("method", "path", "body"),
    [
        ("GET", f"/api/frames/{HUGE}", None),
        ("GET", f"/api/shoots/{HUGE}/sheet", None),
        ("GET", f"/shoots/{HUGE}/bench", None),
        ("POST", "/api/edit", {"frames": [HUGE], "values": {"light.exposure": 1}}),
        ("POST", "/api/import/find", {"folder": "/\ud800"}),
        ("POST", "/api/import/find", {"folder": "/" + "x" * 300}),
        ("GET", "/api/folders?path=/%ED%A0%80", None),
        ("GET", "/api/folders?path=/" + "y" * 5000, None),
    ],
)
def test_numbers_and_texts_beyond_all_bounds(server: Running, method: str, path: str, body: object) -> None:
    data = b"" if body is None else json.dumps(body).encode()
    status, _, answer = ask(server, method, path, data)
    assert status < 500, answer


@pytest.mark.parametrize(
    "headers",
    [
        {"host": "127.0.0.1:99999999"},
        {"host": "127.0.0.1:x"},
        {"host": "[::1"},
        {"origin": "http://[bad"},
        {"origin": "http://x:99999999"},
    ],
)
def test_malformed_hosts_and_origins_are_refused(server: Running, headers: dict[str, str]) -> None:
    assert ask(server, "GET", "/api/shoots", **headers)[0] == 403


def test_a_look_for_a_frame_whose_name_holds_a_line_end(server: Running) -> None:
    (frame,) = server.get("/api/shoots/1/sheet")["frames"]
    status, headers, data = ask(server, "GET", f"/api/frames/{frame['id']}/look.cube")
    assert status == 200 and b"LUT_3D_SIZE" in data
    assert headers["content-disposition"] == 'attachment; filename="line_end_.cube"'


@pytest.mark.parametrize("told", [True, False])
def test_a_body_has_a_limit(server: Running, told: bool) -> None:
    """By what it says of itself, and by what comes where it says nothing."""
    body = b'{"name": "' + b"x" * 5_000_000 + b'"}'
    if told:
        status, _, answer = ask(server, "POST", "/api/shoots", **{"content-length": str(len(body))})
    else:
        connection = http.client.HTTPConnection("127.0.0.1", server.port, timeout=60)
        head = {"authorization": f"Bearer {server.services.token}", "content-type": "application/json"}
        try:
            connection.request(
                "POST", "/api/shoots", iter([body[n : n + 65536] for n in range(0, len(body), 65536)]), head
            )
        except (BrokenPipeError, ConnectionResetError):
            pass
        found = connection.getresponse()
        status, answer = found.status, found.read()
        connection.close()
    assert status == 413 and b"larger than the 4 MB" in answer
    assert server.get("/api/shoots/1/sheet")["frames"]


def test_damaged_icc_profiles_are_refused_when_they_come_in(server: Running) -> None:
    """Every byte of a good profile's tags turned, one after another: refused, or good enough to convert with."""
    import numpy as np

    from tanner.core.colour.printing import IccError, check_icc, to_icc
    from tanner.core.colour.spaces import icc_profile

    good, refused = icc_profile("p3", 2), 0
    rng = np.random.default_rng(3)
    strip = np.full((2, 2, 3), 20000, np.uint16)
    for _ in range(150):
        data = bytearray(good)
        for at in rng.integers(128, len(good), 6):
            data[at] = rng.integers(256)
        try:
            check_icc(bytes(data), "x.icc")
        except IccError:
            refused += 1
            continue
        to_icc(strip, bytes(data), "relative", True, 8)
    assert refused > 20
    status, _, answer = ask(server, "POST", "/api/profiles/file?name=x.icc", good[: len(good) // 2])
    assert status == 422 and b"error" in answer
