"""What the server listens on: this machine only, and answers leave at once."""

import asyncio
import socket

import pytest

from tanner.core.errors import TannerError
from tanner.web.serving.serve import listen


def test_answers_do_not_wait_for_more_to_send() -> None:
    """With Nagle's algorithm (RFC 896) on, a kept connection waits some 40 ms for the other side's acknowledgement."""

    async def option() -> int:
        found: asyncio.Future[int] = asyncio.get_running_loop().create_future()

        def accepted(_: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            found.set_result(writer.get_extra_info("socket").getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY))
            writer.close()

        with listen(0) as own:
            server = await asyncio.start_server(accepted, sock=own)
            _, writer = await asyncio.open_connection(*own.getsockname())
            result = await asyncio.wait_for(found, 10)
            writer.close()
            server.close()
            return result

    assert asyncio.run(option()) == 1


def test_it_listens_on_this_machine_only_and_a_taken_port_is_said() -> None:
    with listen(0) as first:
        first.listen()
        host, port = first.getsockname()
        assert host == "127.0.0.1"
        with pytest.raises(TannerError, match="running already"):
            listen(port)
