"""How much a request may bring: one limit for all, a larger one where files come in."""

import json
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

from starlette.exceptions import HTTPException

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
MOST, MOST_FILE = 4_000_000, 64_000_000
"""Bytes of a body; of a file's bytes."""
FILES = "/file"
"""How the paths end under which files come in."""


class TooLarge(HTTPException):
    """Raised where a body is read; of this kind, or its reader would take it for a body that makes no sense."""

    def __init__(self, most: int) -> None:
        super().__init__(413, _text(most))


def _text(most: int) -> str:
    return f"This request is larger than the {most // 1_000_000} MB that are taken. Nothing was changed."


class Limit:
    """ASGI middleware: a body beyond its limit is refused, by what it says of itself and by what comes."""

    def __init__(self, app: Callable[[Message, Receive, Send], Awaitable[None]]) -> None:
        self.app = app

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        path: str = scope["path"]
        most = MOST_FILE if path.endswith(FILES) else MOST
        length = next((v for k, v in scope["headers"] if k == b"content-length"), b"0")
        if not length.isdigit() or int(length) > most:
            await _refuse(send, most)
            return
        came = 0

        async def counted() -> Message:
            nonlocal came
            message = await receive()
            came += len(message.get("body", b""))
            if came > most:
                raise TooLarge(most)
            return message

        await self.app(scope, counted, send)


async def _refuse(send: Send, most: int) -> None:
    head = [(b"content-type", b"application/json"), (b"connection", b"close")]
    await send({"type": "http.response.start", "status": 413, "headers": head})
    await send({"type": "http.response.body", "body": json.dumps({"error": _text(most)}).encode()})
