"""The Bench's socket: views of a frame while its controls move; the newest wish wins."""

import asyncio
import json
import logging
import struct
from typing import Any

from fastapi import APIRouter, WebSocket
from pydantic import BaseModel, ConfigDict, Field

from tanner.catalogue.development import edited
from tanner.catalogue.models import Frame
from tanner.catalogue.originals import REPLACED, check_frame
from tanner.catalogue.resolver import Resolver, about_of
from tanner.core.adjust.registry import develop
from tanner.core.errors import TannerError
from tanner.core.measure import values_at
from tanner.core.noise.controls import Noise
from tanner.core.series.resolve import resolve
from tanner.web.serving.lines import until_one_ends
from tanner.web.serving.services import Services
from tanner.web.viewer.viewer import AskedView, Shown

router = APIRouter()
log = logging.getLogger(__name__)
INSIDE = "This view could not be made; please tell the makers of Tanner"
"""What is said of an error that nobody foresaw."""


class Ask(BaseModel):
    """One message of the page: a view of a frame, with values (or a preset) that are not kept yet."""

    model_config = ConfigDict(extra="forbid")

    id: int = Field(ge=0, le=2**53)
    frame: int = Field(ge=0, le=2**63 - 1)
    values: dict[str, Any] = Field(default={}, max_length=100)
    relative: list[str] = []
    preset: str = ""
    amount: float = Field(default=100, ge=0, le=150)
    leave: list[str] = Field(default=[], max_length=20)
    view: AskedView


class Bench:
    """One open page: what it asked for last, and the picture that it was sent last."""

    def __init__(self, services: Services) -> None:
        self.services = services
        self.shown: Shown | None = None
        self._known: tuple[int, int, Frame, Resolver] | None = None

    def _frame(self, frame_id: int) -> tuple[Frame, Resolver]:
        revision = self.services.catalogue.revision
        if self._known and self._known[:2] == (revision, frame_id):
            return self._known[2], self._known[3]
        trouble = check_frame(self.services.catalogue, frame_id)
        if trouble:
            with self.services.catalogue.read() as session:
                raise TannerError(f"{session.get_one(Frame, frame_id).name}: {trouble}")
        revision = self.services.catalogue.revision
        with self.services.catalogue.read() as session:
            frame = session.get(Frame, frame_id)
            if frame is None:
                raise TannerError("This frame is no longer there.")
            resolver = Resolver(session, frame.shoot_id)
        self._known = (revision, frame_id, frame, resolver)
        return frame, resolver

    def answer(self, ask: Ask) -> bytes:
        """A header and a JPEG: four bytes of length, the header as JSON, the picture."""
        try:
            frame, resolver = self._frame(ask.frame)
            values = resolver.resolve(frame).values
            wished = self._wished(ask, frame)
            if wished:
                layers = resolver.layers(frame)
                draft = edited(resolver, frame, wished, relative=ask.relative)
                values = resolve(
                    type(layers)(**{**vars(layers), "own": draft["own"], "offsets": draft["offsets"]})
                ).values
            shown = self.services.viewer.show(frame.path, values, frame.starting, ask.view)
            if shown.header["waits"] and not (wished or ask.view.draft or ask.view.before):
                # What is kept of the frame's development is worked out behind the scenes, and then shown.
                shown.header["quieting"] = self.services.denoising.want(frame, develop(values).group(Noise)).number
        except TannerError as error:
            return _packed(
                {"id": ask.id, "frame": ask.frame, "error": str(error), "replaced": str(error).endswith(REPLACED)}, b""
            )
        except Exception as error:  # said in place of the picture; the page goes on
            if not self.services.closing:
                log.exception("a view of frame %s", ask.frame)
            return _packed({"id": ask.id, "frame": ask.frame, "error": f"{INSIDE} ({error!r})."}, b"")
        if not ask.view.before:
            self.shown = shown
        return _packed({**shown.header, "id": ask.id, "frame": ask.frame}, shown.jpeg)

    def _wished(self, ask: Ask, frame: Frame) -> dict[str, Any]:
        if not ask.preset:
            return ask.values
        return self.services.library.preset(ask.preset).at(ask.amount / 100, about_of(frame), ask.leave)

    def probe(self, x: float, y: float) -> dict[str, Any] | None:
        """Values of the picture sent last, at a place in shares of it."""
        if self.shown is None:
            return None
        h, w = self.shown.pixels.shape[:2]
        return values_at(self.shown.pixels, int(x * w), int(y * h))


def _packed(header: dict[str, Any], picture: bytes) -> bytes:
    text = json.dumps(header).encode()
    return struct.pack("<I", len(text)) + text + picture


def _object(text: str) -> dict[str, Any]:
    """A message; ValueError for what is none."""
    try:
        message = json.loads(text)
    except RecursionError:
        raise ValueError("too deep") from None
    if not isinstance(message, dict):
        raise ValueError("not an object")
    return message


@router.websocket("/ws/bench")
async def socket(websocket: WebSocket) -> None:
    await websocket.accept()
    bench = Bench(websocket.app.state.services)
    waiting: dict[bool, Ask] = {}
    wake = asyncio.Event()

    async def listen() -> None:
        while True:
            message = _object(await websocket.receive_text())
            if "probe" in message:
                x, y = (min(max(float(v), 0.0), 1.0) for v in message["probe"])
                await websocket.send_text(json.dumps({"probe": bench.probe(x, y)}))
                continue
            ask = Ask(**message)
            waiting[ask.view.before] = ask
            wake.set()

    async def work() -> None:
        while True:
            await wake.wait()
            wake.clear()
            while waiting:
                ask = waiting.pop(False) if False in waiting else waiting.pop(True)
                await websocket.send_bytes(await asyncio.to_thread(bench.answer, ask))

    try:
        await until_one_ends(listen(), work())
    except (ValueError, TypeError, KeyError, OverflowError):
        # KeyError: bytes where text belongs, as starlette says it.
        await websocket.close(1003, "This message makes no sense here.")
