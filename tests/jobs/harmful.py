"""What a damaged file can make a decoder do, as functions for worker processes."""

import os
import time
from pathlib import Path


def crash() -> None:
    os.kill(os.getpid(), 11)


def hang() -> None:
    time.sleep(600)


def devour() -> int:
    return len(bytearray(64 << 30))


def fine(value: int) -> int:
    return value + 1


def die_first(path: str) -> str:
    """Is killed the first time it is asked, as the system does when memory is short."""
    import os
    import signal

    tried = Path(path)
    with tried.open("a") as file:
        file.write("x")
    if tried.stat().st_size == 1:
        os.kill(os.getpid(), signal.SIGKILL)
    return "done"


def note(path: str, text: str) -> None:
    """Says that it was run."""
    with Path(path).open("a") as file:
        file.write(text + "\n")
