"""What schemathesis sends, brought near to what is there: half of the numbers name a frame, a shoot or a set that exists."""

import ast
import threading
from typing import Any

import schemathesis

NEAR = (1, 2, 3)

# Python 3.11 counts the depth of a syntax tree once for all threads (CPython issue 106905): two workers that describe a
# lambda at the same moment give "AST constructor recursion depth mismatch". One at a time, then.
_ONE_AT_A_TIME = threading.RLock()
_parse = ast.parse


def _parse_alone(*source: Any, **options: Any) -> Any:
    with _ONE_AT_A_TIME:
        return _parse(*source, **options)


ast.parse = _parse_alone  # type: ignore[assignment]


def _near(value: Any) -> Any:
    return NEAR[value % 3] if isinstance(value, int) and not isinstance(value, bool) and value % 2 else value


@schemathesis.hook
def map_path_parameters(_: Any, path_parameters: Any) -> Any:
    if not isinstance(path_parameters, dict):
        return path_parameters
    return {name: _near(value) for name, value in path_parameters.items()}


@schemathesis.hook
def map_body(_: Any, body: Any) -> Any:
    if not isinstance(body, dict):
        return body
    near = {k: _near(v) if k in ("source", "reference", "shoot", "set", "frame") else v for k, v in body.items()}
    if isinstance(body.get("frames"), list):
        near["frames"] = [_near(v) for v in body["frames"]]
    return near
