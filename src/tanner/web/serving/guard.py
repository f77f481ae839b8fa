"""Answers this machine's own pages, and programs that have the token; refuses all else, and sets the headers that say so.

Pages get a cookie that no script reads and that no other site's request carries. A program sends the token that lies in
the catalogue's folder, readable by its owner only.
"""

import hashlib
import hmac
import secrets
from collections.abc import Awaitable, Callable, MutableMapping
from http.cookies import CookieError, SimpleCookie
from pathlib import Path
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


def token_of(data: Path) -> str:
    """The token of a data folder; made when there is none."""
    path = data / "token"
    try:
        found = path.read_text().strip()
        if len(found) >= 32:
            return found
    except OSError:
        pass
    found = secrets.token_urlsafe(32)
    path.touch(mode=0o600, exist_ok=True)
    path.chmod(0o600)
    path.write_text(found + "\n")
    return found


def _place(address: str) -> tuple[str | None, int | None, str]:
    """Name, port and both together of an address; all None where it makes no sense."""
    try:
        parts = urlsplit(address)
        return parts.hostname, parts.port, parts.netloc
    except ValueError:
        return None, None, ""


class Guard:
    """ASGI middleware: Host must name this machine; an Origin, where sent, must be the page's own.

    This stops pages of other sites from reaching the server through the user's browser, by name tricks
    (DNS rebinding) or by plain cross-site requests. Data are given to pages that were served here, known by their cookie,
    and to programs that send the token; both keep others out by mistake, not a user of this machine who means it.
    """

    def __init__(self, app: Callable[[Message, Receive, Send], Awaitable[None]], token: str) -> None:
        self.app, self.token = app, token
        self.page = hashlib.sha256(f"page {token}".encode()).hexdigest()

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self.app(scope, receive, send)
            return
        headers = {k.decode("latin-1"): v.decode("latin-1") for k, v in scope["headers"]}
        host, origin = headers.get("host", ""), headers.get("origin")
        name, port, whole = _place(f"//{host}")
        own = name in NAMES and bool(whole) and (origin is None or _place(origin)[2] == host)
        if own and scope["type"] == "websocket" and origin is None:
            own = False  # browsers always send one; nothing else has a reason to connect
        if not own:
            await self._refuse(scope, receive, send)
            return
        # Cookies know no ports: two Tanners on one machine must not take each other's.
        name = f"tanner_{port or 80}"
        if scope["path"].startswith(("/api", "/ws")) and not self._known(headers, name):
            await self._refuse(scope, receive, send, 401)
            return
        given = f"{name}={self.page}; Path=/; HttpOnly; SameSite=Strict".encode()

        async def with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                html = any(k == b"content-type" and v.startswith(b"text/html") for k, v in message["headers"])
                message["headers"] = [*message["headers"], *HEADERS, *([(b"set-cookie", given)] if html else [])]
            await send(message)

        await self.app(scope, receive, with_headers)

    def _known(self, headers: dict[str, str], name: str) -> bool:
        """Whether a request has the token, or the cookie of a page."""
        kind, _, given = headers.get("authorization", "").partition(" ")
        if kind.lower() == "bearer" and hmac.compare_digest(given.strip().encode(), self.token.encode()):
            return True
        try:
            cookie = SimpleCookie(headers.get("cookie", "")).get(name)
        except CookieError:
            return False
        return cookie is not None and hmac.compare_digest(cookie.value.encode(), self.page.encode())

    async def _refuse(self, scope: Message, receive: Receive, send: Send, status: int = 403) -> None:
        if scope["type"] == "websocket":
            await receive()
            await send({"type": "websocket.close", "code": 1008})
            return
        body = b"This server answers its own pages only. Open the address that Tanner printed."
        kind = b"text/plain"
        if status == 401:
            kind = b"application/json"
            body = b'{"error": "Load the page again; a program sends the token of the catalogue: Authorization: Bearer ..."}'
        start = {"type": "http.response.start", "status": status, "headers": [(b"content-type", kind), *HEADERS]}
        await send(start)
        await send({"type": "http.response.body", "body": body})
