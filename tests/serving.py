"""A running Tanner on a free port, as a user starts it, for tests of the pages and their data."""

import json
import shutil
import struct
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx
import uvicorn
from websockets.sync.client import connect

from tanner.web.language.catalogue import Language
from tanner.web.serving.app import create_app
from tanner.web.serving.serve import listen
from tanner.web.serving.services import Services


@dataclass
class Running:
    """A server with its services, its folders, and a client."""

    services: Services
    port: int
    folder: Path
    client: httpx.Client

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def get(self, path: str, expect: int = 200, **options: Any) -> Any:
        answer = self.client.get(path, **options)
        assert answer.status_code == expect, answer.text
        return answer.json()

    def post(self, path: str, body: Any = None, expect: int = 200) -> Any:
        answer = self.client.post(path, json={} if body is None else body)
        assert answer.status_code == expect, answer.text
        return answer.json()

    def until(self, path: str, ended: Callable[[dict[str, Any]], bool], body: Any = None) -> dict[str, Any]:
        """What `path` answers once `ended` holds for it; asked by POST where there is a body. Two minutes, as machines are shared."""
        limit = time.monotonic() + 120
        while time.monotonic() < limit:
            state: dict[str, Any] = self.get(path) if body is None else self.post(path, body)
            if ended(state):
                return state
            time.sleep(0.05)
        raise AssertionError(f"{path} did not end")

    def over(self, path: str) -> dict[str, Any]:
        """The state of a job that runs behind the scenes, once it is over."""
        return self.until(path, lambda state: state["over"])

    def bring_in(self, shoot: int, files: list[Path], copy_to: Path | None = None) -> dict[str, Any]:
        """Import and wait for the end, sets included."""
        body = {"files": [str(f) for f in files], "copy_to": str(copy_to) if copy_to else ""}
        job = self.post(f"/api/shoots/{shoot}/import", body)["job"]
        return self.until(f"/api/imports/{job}", lambda state: state["stage"] == "done")

    def socket(self, path: str = "/ws/bench") -> Any:
        """The Bench's socket, or another, as a page opens it."""
        bearer = {"authorization": f"Bearer {self.services.token}"}
        address = f"ws://127.0.0.1:{self.port}{path}"
        return connect(address, origin=self.url, max_size=None, additional_headers=bearer)  # type: ignore[arg-type]

    def view(self, frame: int, **view: Any) -> tuple[dict[str, Any], bytes]:
        """One view over the Bench's socket."""
        values = view.pop("values", {})
        with self.socket() as line:
            line.send(
                json.dumps({"id": 1, "frame": frame, "values": values, "view": {"width": 400, "height": 300, **view}})
            )
            data = line.recv()
        assert isinstance(data, bytes)
        (length,) = struct.unpack_from("<I", data)
        return json.loads(data[4 : 4 + length]), data[4 + length :]


@contextmanager
def with_lamps(folder: Path, originals: Path, count: int = 3) -> Iterator[Running]:
    """A server whose one shoot holds a set of lamps."""
    with running(folder) as result:
        photos = result.folder / "photos"
        for n in range(1, count + 1):
            shutil.copy(originals / f"T000{n}.DNG", photos)
        result.post("/api/shoots", {"name": "Spring"})
        result.bring_in(1, sorted(photos.iterdir()))
        yield result


@contextmanager
def running(folder: Path, language: Language | None = None) -> Iterator[Running]:
    """Serve with a data folder and three opened folders (photos, card, out) below `folder`."""
    opened = [folder / n for n in ("photos", "card", "out")]
    for each in opened:
        each.mkdir(parents=True, exist_ok=True)
    listening = listen(0)
    services = Services(folder / "data", opened)
    server = uvicorn.Server(
        uvicorn.Config(
            create_app(services, development=True, language=language), log_level="error", ws_per_message_deflate=False
        )
    )
    thread = threading.Thread(target=server.run, args=([listening],), daemon=True)
    thread.start()
    port = listening.getsockname()[1]
    bearer = {"authorization": f"Bearer {services.token}"}
    # No connection is used again: the server closes one that was idle for five seconds, and a request that
    # goes out in that instant is lost (a page asks once more by itself, httpx does not).
    anew = httpx.Limits(max_keepalive_connections=0)
    with httpx.Client(base_url=f"http://127.0.0.1:{port}", timeout=60, headers=bearer, limits=anew) as client:
        for _ in range(600):
            if server.started:
                break
            time.sleep(0.1)
        yield Running(services, port, folder, client)
        server.should_exit = True
        thread.join(20)
