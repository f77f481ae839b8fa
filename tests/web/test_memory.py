"""What the server holds when many threads have worked and many pages were open, and what is told at its end."""

import gc
import os
import platform
import subprocess
import sys
import time

import pytest
from serving import Running

from tanner.web.viewer.socket import INSIDE, Ask, Bench

HEAPS = """
import ctypes, threading
from tanner.web.serving.serve import few_arenas

if {few}:
    assert few_arenas()
c = ctypes.CDLL(None)
c.malloc.restype = ctypes.c_void_p
c.malloc.argtypes = [ctypes.c_size_t]
c.open_memstream.restype = ctypes.c_void_p
c.fclose.argtypes = [ctypes.c_void_p]
c.malloc_info.argtypes = [ctypes.c_int, ctypes.c_void_p]
all_at_once = threading.Barrier(12)

def work():
    all_at_once.wait()
    for _ in range(200):
        c.malloc(1000)
    all_at_once.wait()

threads = [threading.Thread(target=work) for _ in range(12)]
for t in threads: t.start()
for t in threads: t.join()
text, size = ctypes.c_char_p(), ctypes.c_size_t()
stream = c.open_memstream(ctypes.byref(text), ctypes.byref(size))
c.malloc_info(0, stream)
c.fclose(stream)
print(text.value.count(b"<heap nr="))
"""


@pytest.mark.skipif(platform.libc_ver()[0] != "glibc", reason="heaps of glibc")
def test_threads_share_two_heaps() -> None:
    """Each heap keeps what was once needed there: with one for each thread the server grew by 15 % in an hour."""

    def heaps(few: bool) -> int:
        code = HEAPS.replace("{few}", str(few))
        plain = {k: v for k, v in os.environ.items() if not k.startswith(("MALLOC_", "GLIBC_TUNABLES"))}
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, env=plain)
        return int(done.stdout)

    assert heaps(True) <= 2 < heaps(False)


def test_a_closed_bench_leaves_nothing(server: Running) -> None:
    """Its last picture lay in a circle of an error, its task and a frame until the collector came by, which is seldom."""
    server.view(1)
    gc.collect()
    gc.disable()
    try:
        for _ in range(3):
            server.view(1)
        limit = time.monotonic() + 60
        while (left := sum(type(o) is Bench for o in gc.get_objects())) and time.monotonic() < limit:
            time.sleep(0.1)
    finally:
        gc.enable()
    assert left == 0


def test_a_view_that_fails_because_the_program_ends_is_not_told_as_a_fault(
    server: Running, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    def over(*_: object) -> None:
        raise RuntimeError("cannot schedule new futures after shutdown")

    monkeypatch.setattr(server.services.viewer, "show", over)
    ask = Ask(id=1, frame=1, view={"width": 100, "height": 80})  # type: ignore[arg-type]
    assert INSIDE.encode() in Bench(server.services).answer(ask) and caplog.records
    caplog.clear()
    monkeypatch.setattr(server.services, "closing", True)
    Bench(server.services).answer(ask)
    assert not caplog.records
