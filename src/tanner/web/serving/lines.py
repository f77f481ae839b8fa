"""What lines that stay open share: work at both of their ends, until one of it ends."""

import asyncio
from collections.abc import Coroutine
from typing import Any

from fastapi import WebSocketDisconnect


async def until_one_ends(*work: Coroutine[Any, Any, None]) -> None:
    """Do all of it at once; when one ends, or the other side went, the rest is given up. What else went wrong is raised."""
    tasks = [asyncio.create_task(each) for each in work]
    finished: set[asyncio.Task[None]] = set()
    try:
        finished, _ = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
    finally:
        for task in tasks:
            task.cancel()
        # Both ends may notice at once that the other side went: what each has to say of it is heard, and enough.
        await asyncio.gather(*tasks, return_exceptions=True)
    # Asked for and not caught: an error that is caught here holds this frame, which holds its task, which holds the error;
    # with the last picture of each line that was ever open, until the collector comes by.
    for error in (task.exception() for task in finished):
        if error is not None and not isinstance(error, WebSocketDisconnect | RuntimeError):
            raise error
