"""Starts the server on 127.0.0.1 and says where it is."""

import contextlib
import ctypes
import faulthandler
import gc
import logging
import os
import signal
import socket
import sys
import threading
import time
from collections.abc import Sequence
from pathlib import Path
from types import FrameType
from typing import Any

import uvicorn

from tanner.core import jit
from tanner.core.errors import TannerError
from tanner.web.language.catalogue import read
from tanner.web.serving.app import create_app
from tanner.web.serving.services import Services

ENDED_S = 15.0
"""The longest that ending takes."""
PAGE_FIRST_S = 0.7
"""So long after the start nothing is loaded in the background: the first page is being made."""


class _Server(uvicorn.Server):
    """Prints the address once it is being listened on, not before."""

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        if not self.should_exit:
            # Requests that are broken off now are no errors that anybody should read of.
            logging.getLogger("uvicorn.error").setLevel(logging.CRITICAL)
            # What is written is written whole, whenever the program ends: nothing is lost by not waiting for ever.
            threading.Thread(target=_end_after, args=(ENDED_S,), daemon=True).start()
        super().handle_exit(sig, frame)

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        if self.started and sockets:
            print(f"Tanner is at http://127.0.0.1:{sockets[0].getsockname()[1]}", flush=True)
            # No page needs the compiler, the first picture does: loaded between the two.
            later = threading.Timer(PAGE_FIRST_S, jit.load)
            later.daemon = True
            later.start()


def listen(port: int) -> socket.socket:
    """A socket on this machine's own address.

    Raises:
        TannerError: the port is taken.
    """
    # Named as TCP, or the event loop does not switch the system's waiting for more to send off: 40 ms an answer.
    result = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    result.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        result.bind(("127.0.0.1", port))
    except OSError as error:
        result.close()
        raise TannerError(
            f"Port {port} cannot be used ({error.strerror}). Is Tanner running already? Choose another with --port."
        ) from None
    return result


def calm_collector() -> None:
    """What is there at the start stays: collecting garbage does not go through it again, which was a third of a large query."""
    gc.freeze()
    gc.set_threshold(20_000, 10, 10)
    gc.enable()


_M_ARENA_MAX = -8


def few_arenas(count: int = 2) -> bool:
    """Let all threads share a few heaps of the C library; whether it was told so.

    Left to itself glibc makes up to eight for each core, and each keeps the memory of the largest picture that a thread
    ever worked on: 150 MB more after an hour of work (`python -m bench.soak`).
    """
    try:
        return bool(ctypes.CDLL(None).mallopt(_M_ARENA_MAX, count))
    except (OSError, AttributeError):  # another C library, which has no such thing
        return False


def run(data: Path, folders: Sequence[Path], port: int, *, language: str = "", **options: Any) -> None:
    """Serve until interrupted or told to end; both end the program as its own end does, with nothing left behind."""
    chosen = read(language)
    few_arenas()
    # The server hears signals itself, and gives them on when it has ended.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    listening = listen(port)
    try:
        services = Services(data, folders, **options)
    except BaseException:
        listening.close()
        raise
    config = uvicorn.Config(
        create_app(services, development=bool(os.environ.get("TANNER_DEVELOPMENT")), language=chosen),
        log_level="warning",
        # Compressing pictures again costs 15 ms a frame and gains nothing.
        ws_per_message_deflate=False,
        timeout_graceful_shutdown=3,
    )
    calm_collector()
    with contextlib.suppress(KeyboardInterrupt):
        _Server(config).run([listening])


def _end_after(seconds: float) -> None:
    """End the program though something still waits; what it was is told, for it is a fault."""
    time.sleep(seconds)
    faulthandler.dump_traceback(all_threads=True)
    os._exit(1)
