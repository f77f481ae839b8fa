"""The line by which pages hear what happens: counters of each topic, sent when they move."""

import asyncio
import contextlib

from fastapi import APIRouter, WebSocket

from tanner.web.serving.lines import until_one_ends
from tanner.web.serving.services import Services

router = APIRouter()
QUIET_S = 0.1
"""Between two messages at least: what happens meanwhile is told together."""
TICK_S = 0.4
"""Work in other processes that tells nothing by itself is looked at this often."""


def _ticking(services: Services) -> bool:
    """Whether something runs whose progress is written to a file only."""
    merging = any(job.state == "working" for job in services.merges.jobs.all())
    return merging or any(not job.over for job in services.denoising.jobs.all())


@router.websocket("/ws/news")
async def newsline(websocket: WebSocket) -> None:
    """When counting began and all counters at first, then those that moved; a line that was lost begins with all of them again."""
    await websocket.accept()
    services: Services = websocket.app.state.services
    news, loop, moved = services.catalogue.news, asyncio.get_running_loop(), asyncio.Event()

    def wake() -> None:
        with contextlib.suppress(RuntimeError):  # the server has ended: nobody listens any more
            loop.call_soon_threadsafe(moved.set)

    async def tell() -> None:
        seen = news.counts()
        await websocket.send_json({"began": news.began, **seen})
        while True:
            try:
                await asyncio.wait_for(moved.wait(), TICK_S)
            except TimeoutError:
                if _ticking(services):
                    news.tell("work")
                continue
            moved.clear()
            now = news.counts()
            await websocket.send_json({k: n for k, n in now.items() if seen.get(k) != n})
            seen = now
            await asyncio.sleep(QUIET_S)

    async def listen() -> None:
        while True:  # nothing is said on this line by pages; its end is heard here
            await websocket.receive()

    with news.heard_by(wake):
        await until_one_ends(tell(), listen())
