"""Refuses requests that do not come from this machine's own pages, and sets the headers that say so."""

from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any
from urllib.parse import urlsplit

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]

POLICY = (
    "default-src 'self'; img-src 'self' blob: data:; style-src 'self'; script-src 'self'; connect-src 'self'; "
    "font-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
)
HEADERS = [
    (b"content-security-policy", POLICY.encode()),
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"no-referrer"),
    (b"cross-origin-resource-policy", b"same-origin"),
]
NAMES = {"127.0.0.1", "localhost", "::1"}


def _host_name(host: str) -> str | None:
    try:
        return urlsplit(f"//{host}").hostname
    except ValueError:
        return None


class Guard:
    """ASGI middleware: Host must name this machine; an Origin, where sent, must be the page's own.

    This stops pages of other sites from reaching the server through the user's browser, by name tricks
    (DNS rebinding) or by plain cross-site requests.
    """

    def __init__(self, app: Callable[[Message, Receive, Send], Awaitable[None]]) -> None:
        self.app = app

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self.app(scope, receive, send)
            return
        headers = {k.decode("latin-1"): v.decode("latin-1") for k, v in scope["headers"]}
        host, origin = headers.get("host", ""), headers.get("origin")
        own = _host_name(host) in NAMES and (origin is None or urlsplit(origin).netloc == host)
        if own and scope["type"] == "websocket" and origin is None:
            own = False  # browsers always send one; nothing else has a reason to connect
        if not own:
            await self._refuse(scope, receive, send)
            return

        async def with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                message["headers"] = [*message["headers"], *HEADERS]
            await send(message)

        await self.app(scope, receive, with_headers)

    async def _refuse(self, scope: Message, receive: Receive, send: Send) -> None:
        if scope["type"] == "websocket":
            await receive()
            await send({"type": "websocket.close", "code": 1008})
            return
        body = b"This server answers its own pages only. Open the address that Tanner printed."
        start = {"type": "http.response.start", "status": 403, "headers": [(b"content-type", b"text/plain"), *HEADERS]}
        await send(start)
        await send({"type": "http.response.body", "body": body})
