"""Bringing in and choosing, on copies of the demo's frames: ratios and times of one run.

python -m bench.bring_in [FRAMES]
"""

import hashlib
import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
from playwright.sync_api import Page

from bench.browser import paged, served
from tanner.catalogue.importing import find_files, find_others, shots
from tanner.core.output.files import copy_verified
from tanner.jobs.tasks import file_preview

DEMO = Path("build/demo/shoot")


def best(work: Callable[[], object], times: int = 3) -> float:
    walls = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        walls.append(time.perf_counter() - begun)
    return min(walls)


def card(folder: Path, frames: int) -> list[Path]:
    """A card of hard links to the demo's frames, as many as are asked for."""
    originals = sorted(DEMO.glob("*.DNG"))
    made = []
    for n in range(frames):
        path = folder / "DCIM" / f"{100 + n // 500}ALDER" / f"AF{n:05d}.DNG"
        path.parent.mkdir(parents=True, exist_ok=True)
        os.link(originals[n % len(originals)], path)
        made.append(path)
    return made


def copies(files: list[Path], root: Path) -> None:
    """Copying with verification against `cp` and a checksum of both sides, taken in turns."""
    size = sum(f.stat().st_size for f in files) / 1e6

    def plain() -> None:
        target = root / "plain"
        target.mkdir()
        for file in files:
            shutil.copy2(file, target / file.name)
            for each in (file, target / file.name):
                with each.open("rb") as stream:
                    hashlib.file_digest(stream, "sha256")
        os.sync()
        shutil.rmtree(target)

    def ours() -> None:
        target = root / "ours"
        for file in files:
            copy_verified(file, target / file.name)
        shutil.rmtree(target)

    rounds = [(best(plain, 1), best(ours, 1)) for _ in range(3)]
    ratios = [o / p for p, o in rounds]
    print(
        f"copying {len(files)} files, {size:.0f} MB: {min(ratios):.2f} to {max(ratios):.2f} times cp and two checksums"
    )


def choosing(page: Page, url: str) -> None:
    """From a key to the next picture painted, over a shoot of the demo with warm pictures."""
    page.goto(f"{url}/shoots/1/choose")
    page.wait_for_timeout(2500)
    taken = page.evaluate(
        """async () => {
          const walls = [];
          for (let n = 0; n < 30; n += 1) {
            const before = document.querySelector(".large-pane").dataset.id;
            const begun = performance.now();
            document.body.dispatchEvent(new KeyboardEvent("keydown", { key: "ArrowRight", bubbles: true }));
            const image = document.querySelector(".large-pane img");
            if (document.querySelector(".large-pane").dataset.id === before) break;
            await image.decode().catch(() => null);
            await new Promise((done) => requestAnimationFrame(done));
            walls.push(performance.now() - begun);
            await new Promise((done) => setTimeout(done, 400));
          }
          return walls;
        }"""
    )
    print(
        f"key to the next large picture, {len(taken)} keys: median {np.median(taken):.0f} ms, p95 {np.percentile(taken, 95):.0f} ms"
    )


def main() -> None:
    frames = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    with tempfile.TemporaryDirectory(dir="build") as name:
        root = Path(name)
        files = card(root / "card", frames)
        listed = best(lambda: (shots(find_files(root / "card")), find_others(root / "card")))
        print(f"a card of {frames} frames listed: {1000 * listed:.0f} ms")
        some = [str(f) for f in files[:200]]
        with ThreadPoolExecutor(2) as pool:
            wall = best(lambda: list(pool.map(lambda f: file_preview(f, False), some)), 2)
        print(f"embedded pictures, two threads: {len(some) / wall:.0f} a second")
        copies(files[:20], root)
    demo = Path("build/demo")
    with tempfile.TemporaryDirectory(dir="build") as name:
        data = Path(name) / "data"
        shutil.copytree(demo / "data", data)
        with served(data, [demo / n for n in ("shoot", "card", "out")], 8495) as url, paged() as page:
            choosing(page, url)


if __name__ == "__main__":
    main()
