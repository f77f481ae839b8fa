"""What a damaged file can make a decoder do, as functions for worker processes."""

import os
import time


def crash() -> None:
    os.kill(os.getpid(), 11)


def hang() -> None:
    time.sleep(600)


def devour() -> int:
    return len(bytearray(64 << 30))


def fine(value: int) -> int:
    return value + 1
