"""The Bench's socket: whatever comes, it answers or closes with a word; the next page is served as before."""

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from serving import Running, with_lamps
from websockets.exceptions import ConnectionClosed

from tanner.web.viewer.socket import INSIDE

ODD = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=12), inner, max_size=4),
    max_leaves=12,
)
NAMES = st.sampled_from(
    ["light.exposure", "light.curve", "crop.left", "crop.angle", "white_balance.kelvin", "profile.chosen", "noise.method",
     "optics.chosen_lens", "perspective.vertical", "no.such", "", "light", "x" * 300]
)  # fmt: skip
VIEW = st.fixed_dictionaries(
    {"width": st.integers(-2, 5000) | ODD, "height": st.integers(-2, 5000) | ODD},
    optional={
        "zoom": st.floats() | ODD, "x": st.floats() | ODD, "y": ODD, "draft": st.booleans() | ODD, "before": st.booleans(),
        "marks": ODD, "proof": ODD, "show": ODD, "whole": ODD,
    },
)  # fmt: skip
ASKED = st.fixed_dictionaries(
    {"id": st.integers(0, 9) | ODD, "frame": st.integers(0, 4) | st.just(2**70) | ODD, "view": VIEW | ODD},
    optional={
        "values": st.dictionaries(NAMES, ODD, max_size=4) | ODD, "relative": st.lists(NAMES, max_size=3) | ODD, "preset": ODD,
        "amount": ODD, "leave": ODD, "probe": ODD,
    },
)  # fmt: skip
MESSAGES = (
    (ASKED | ODD).map(json.dumps) | st.text(max_size=60) | st.just('{"probe": [1e999, NaN]}') | st.just("[" * 5000)
)


@pytest.fixture(scope="module")
def server(originals: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    with with_lamps(tmp_path_factory.mktemp("socket"), originals, 1) as result:
        yield result


def answered(server: Running, messages: list[str]) -> list[int]:
    """Send messages one after the other; the codes with which the socket was closed."""
    closed, left = [], list(messages)
    while left:
        with server.socket() as line:
            try:
                while left:
                    line.send(left.pop(0))
                    _heard(line)
            except ConnectionClosed as end:
                assert end.rcvd is not None, "closed without a word"
                closed.append(end.rcvd.code)
    return closed


def _heard(line: Any) -> None:
    """What comes within a moment: no error that nobody foresaw."""
    try:
        told = line.recv(timeout=0.1)
    except TimeoutError:
        return
    assert INSIDE.encode() not in (told if isinstance(told, bytes) else told.encode()), told


@settings(max_examples=100, deadline=None, suppress_health_check=list(HealthCheck))
@given(messages=st.lists(MESSAGES, min_size=1, max_size=6))
def test_messages_of_all_kinds(server: Running, messages: list[str]) -> None:
    assert set(answered(server, messages)) <= {1003}


def test_a_page_is_served_after_all_this(server: Running) -> None:
    (frame,) = server.get("/api/shoots/1/sheet")["frames"]
    header, picture = server.view(frame["id"])
    assert "error" not in header and picture[:2] == b"\xff\xd8"


def test_bytes_are_refused_with_a_word(server: Running) -> None:
    with server.socket() as line:
        line.send(b"\x00\x01")
        with pytest.raises(ConnectionClosed) as end:
            line.recv()
        assert end.value.rcvd is not None and end.value.rcvd.code == 1003
