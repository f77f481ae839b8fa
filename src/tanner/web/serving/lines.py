"""What lines that stay open share: work at both of their ends, until one of it ends."""

import asyncio
from collections.abc import Coroutine
from typing import Any

from fastapi import WebSocketDisconnect


async def until_one_ends(*work: Coroutine[Any, Any, None]) -> None:
    """Do all of it at once; when one ends, or the other side went, the rest is given up. What else went wrong is raised."""
    tasks = [asyncio.create_task(each) for each in work]
    try:
        finished, _ = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
        for task in finished:
            task.result()
    except (WebSocketDisconnect, RuntimeError):
        pass
    finally:
        for task in tasks:
            task.cancel()
        # Both ends may notice at once that the other side went: what each has to say of it is heard, and enough.
        await asyncio.gather(*tasks, return_exceptions=True)
