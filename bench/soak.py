"""An hour of work on one server: does memory grow, are files left open? `python -m bench.soak [--minutes 60]`

Pages are asked for, frames edited, seen over the Bench's socket and delivered, again and again. What the server and its
workers hold is read once everything was done a few times, and at the end: memory may be 5 % more, open files two.
"""

import argparse
import json
import os
import struct
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import httpx
from websockets.sync.client import connect

from bench.browser import bearer, served
from tanner.studio.camera import take
from tanner.studio.exposure import Exposure
from tanner.studio.series import START

WARM_ROUNDS = 12
FRAMES = 6
MEMORY, FILES = 0.05, 2


def _children(process: int) -> list[int]:
    found = [process]
    for task in Path(f"/proc/{process}/task").iterdir():
        for child in (task / "children").read_text().split():
            found += _children(int(child))
    return found


def held(process: int) -> dict[str, Any]:
    """Memory of its own in MB and open files, of the server and of all its processes; "each": the MB of each, the server first."""
    each, files = [], 0
    for one in _children(process):
        rows = dict(row.split(":", 1) for row in Path(f"/proc/{one}/smaps_rollup").read_text().splitlines()[1:])
        each.append(round(sum(int(rows[k].split()[0]) for k in ("Private_Clean", "Private_Dirty")) / 1024))
        files += len(list(Path(f"/proc/{one}/fd").iterdir()))
    return {"MB": sum(each), "files": files, "processes": len(each), "each": each}


def _shots(folder: Path) -> list[Path]:
    folder.mkdir()
    paths = []
    for n in range(FRAMES):
        shot = Exposure(
            name=f"S{n:04d}.DNG", scene="lamp", turn=0.3 * n, kelvin=5500.0, believed=5500.0, ev=0.1 * n, iso=100, lens="standard",
            shutter=1 / 125, taken=START.replace(minute=n), seed=n + 1, width=1800, height=1200,
        )  # fmt: skip
        paths.append(folder / shot.name)
        paths[-1].write_bytes(take(shot))
    return paths


class Worker:
    """One photographer's round of work."""

    def __init__(self, client: httpx.Client, url: str, folder: Path, paths: list[Path], bearer: dict[str, str]) -> None:
        self.client, self.url, self.folder, self.bearer, self.rounds = client, url, folder, bearer, 0
        self.shoot = self._post("/api/shoots", {"name": "Soak"})["id"]
        job = self._post(f"/api/shoots/{self.shoot}/import", {"files": [str(p) for p in paths], "copy_to": ""})["job"]
        self._until(f"/api/imports/{job}", lambda s: s["stage"] == "done")
        self.frames = [f["id"] for f in self._get(f"/api/shoots/{self.shoot}/sheet")["frames"]]
        spec = self._get("/api/specs")["specs"][0]
        self.spec = {k: v for k, v in spec.items() if k not in ("key", "said")}

    def _get(self, path: str) -> Any:
        answer = self.client.get(path)
        answer.raise_for_status()
        return answer.json()

    def _post(self, path: str, body: Any) -> Any:
        answer = self.client.post(path, json=body)
        if answer.is_error:
            raise SystemExit(f"{path}: {answer.text}")
        return answer.json()

    def _until(self, path: str, over: Any) -> None:
        while not over(self._get(path)):
            time.sleep(0.2)

    def round(self) -> None:
        self.rounds += 1
        frame = self.frames[self.rounds % FRAMES]
        for page in ("/", f"/shoots/{self.shoot}/sheet", f"/shoots/{self.shoot}/lineup", "/kit"):
            self.client.get(page).raise_for_status()
        values = {"light.exposure": 0.1 * (self.rounds % 9), "light.shadows": float(self.rounds % 40)}
        self._post("/api/edit", {"frames": [frame], "values": values})
        origin = {"origin": self.url, "max_size": None, "additional_headers": self.bearer}
        with connect(f"{self.url.replace('http', 'ws')}/ws/bench", **origin) as line:  # type: ignore[arg-type]
            for width in (1200, 1201):
                line.send(json.dumps({"id": 1, "frame": frame, "view": {"width": width, "height": 800}}))
                data = line.recv()
                assert isinstance(data, bytes)
                (length,) = struct.unpack_from("<I", data)
                assert "error" not in json.loads(data[4 : 4 + length])
        self._until(f"/api/shoots/{self.shoot}/lineup?set=1", lambda s: not s["pending"])
        if self.rounds % 4 == 0:
            to = self.folder / "out" / str(self.rounds)
            to.mkdir(parents=True)
            body = {"frames": self.frames[:2], "specs": [self.spec], "folder": str(to)}
            started = self._post(f"/api/shoots/{self.shoot}/deliver", body)["delivery"]
            self._until(f"/api/deliveries/{started}/progress?since=0", lambda s: s["state"] in ("done", "cancelled"))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=60)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        paths = _shots(folder / "photos")
        (folder / "out").mkdir()
        with served(folder / "data", [folder], 8497) as url:
            ends_well = soak(url, folder, paths, options.minutes)
    sys.exit(not ends_well)


def soak(url: str, folder: Path, paths: list[Path], minutes: float) -> bool:
    """Whether memory and open files stay as they are."""
    process = next(p for p in _children(os.getpid()) if "tanner.cli" in Path(f"/proc/{p}/cmdline").read_text())
    known = bearer(folder / "data")
    with httpx.Client(base_url=url, headers=known, timeout=120) as client:
        worker = Worker(client, url, folder, paths, known)
        for _ in range(WARM_ROUNDS):
            worker.round()
        before, end = held(process), time.monotonic() + 60 * minutes
        print(f"after {worker.rounds} rounds: {before}", flush=True)
        told = time.monotonic()
        while time.monotonic() < end:
            worker.round()
            if time.monotonic() > told + 6 * minutes:  # ten times in all
                told = time.monotonic()
                print(f"after {worker.rounds} rounds: {held(process)}", flush=True)
        after = held(process)
        print(f"after {worker.rounds} rounds: {after}")
        grown = after["MB"] / before["MB"] - 1
        print(f"memory {100 * grown:+.1f} %, open files {after['files'] - before['files']:+.0f}")
        return grown <= MEMORY and after["files"] - before["files"] <= FILES


if __name__ == "__main__":
    main()
