"""A stage is a file and one line, an item kind a declaration and one line: all else finds them."""

import json
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

SRC = Path(__file__).parents[2] / "src"
EXTRA = '''
"""A stage that a newcomer adds."""

from typing import Any, ClassVar, NamedTuple

import numpy as np

from tanner.core.adjust.spec import Group, param
from tanner.core.jit import kernel
from tanner.core.stages.stage import F32, At, StageFrame, Stage


class Fade(Group):
    key: ClassVar[str] = "fade"
    rank: ClassVar[int] = 120
    title: ClassVar[str] = "Fade"
    about: ClassVar[str] = "Lifts the dark."
    lift: float = param(0.0, 0.0, 50.0, label="Lift", unit="%", help="How far the dark is lifted.")


class Parameters(NamedTuple):
    on: bool
    lift: np.float32


@kernel
def fade_row(r: F32, g: F32, b: F32, at: At, p: Parameters) -> None:
    for j in range(at.n):
        r[j] += p.lift
    for j in range(at.n):
        g[j] += p.lift
    for j in range(at.n):
        b[j] += p.lift


def _prepare(frame: StageFrame, development: Any, moved: bool) -> Parameters:
    lift = development.group(Fade).lift
    return Parameters(lift > 0, np.float32(lift / 100))


STAGE = Stage("fade", (Fade,), _prepare, row=fade_row)
'''
LISTED = '''
"""A kind of listed thing that a newcomer adds."""

from typing import ClassVar

from tanner.core.adjust.items import Listed, Parts
from tanner.core.adjust.spec import param


class NoteParts(Parts):
    key: ClassVar[str] = "notes"
    about: ClassVar[str] = "A note on the picture."
    text: str = param("", label="Text", widget="item", structure=True, help="What it says.")


NOTES = Listed("notes", "Note", NoteParts, ("light.exposure",))
'''
PROGRAM = """
import json, sys
import numpy as np
from tanner.core.adjust.document import adjustments_page
from tanner.core.adjust.registry import GROUPS, adjustments, blend, declared, develop
from tanner.core.series.preset import parse_preset
from tanner.core.series.resolve import Layers, resolve
from tanner.core.series.sidecar import Sidecar, parse_sidecar, sidecar_bytes
from tanner.core.stages import path
from tanner.core.stages.stage import WORK_ROWS, At
from tanner.web.screens.pages import _grouped

own = {"fade.lift": 20.0, "notes/0000000a/kind": "note", "notes/0000000a/text": "here", "notes/0000000a/light.exposure": 0.5}
shown = resolve(Layers(lead=own, own={"notes/0000000a/text": "there"}))
preset = parse_preset(json.dumps({"name": "x", "values": own}), "x.json")
sidecar = parse_sidecar(sidecar_bytes(Sidecar(own=own)), "x")
page = adjustments_page()
print(json.dumps({
    "groups": list(GROUPS), "declared": "fade.lift" in adjustments() and declared("notes/0000000a/text") is not None,
    "stages": [s.name for s in path.POINT], "control": [a.name for g, _, items in _grouped() if g == "fade" for a in items],
    "followed": shown.values, "departs": shown.departures(), "half": blend(own, 0.5), "unknown": preset.unknown,
    "sidecar": sidecar.own == own, "docs": "| `fade.lift` | Lift |" in page and "`notes/ID/text`" in page,
    "things": [t.parts.text for t in develop(own).listed("notes")],
}))
"""


@pytest.fixture(scope="module")
def found(tmp_path_factory: pytest.TempPathFactory) -> dict[str, object]:
    """What a copy of Tanner knows after both were added."""
    folder = tmp_path_factory.mktemp("one-line")
    shutil.copytree(SRC / "tanner", folder / "tanner", ignore=shutil.ignore_patterns("__pycache__", "*.onnx", "*.jxl"))
    core = folder / "tanner" / "core"
    (core / "stages" / "fade.py").write_text(EXTRA)
    (core / "notes.py").write_text(LISTED)
    lines = {
        core / "stages" / "path.py": ("    saturation.STAGE,\n", "    saturation.STAGE,\n    fade.STAGE,\n"),
        core / "adjust" / "registry.py": ("{AREAS.key: AREAS, SPOTS", "{AREAS.key: AREAS, NOTES.key: NOTES, SPOTS"),
    }
    imports = {
        core / "stages" / "path.py": "from tanner.core.stages import (\n    blur,",
        core / "adjust" / "registry.py": "from tanner.core.areas.declare import AREAS\n",
    }
    more = {
        "path.py": "from tanner.core.stages import (\n    fade,\n    blur,",
        "registry.py": "from tanner.core.areas.declare import AREAS\nfrom tanner.core.notes import NOTES\n",
    }
    for path, (before, after) in lines.items():
        text = path.read_text()
        assert text.count(before) == 1 and text.count(imports[path]) == 1
        path.write_text(text.replace(before, after).replace(imports[path], more[path.name]))
    done = subprocess.run(
        [sys.executable, "-c", PROGRAM],
        env={"PYTHONPATH": str(folder), "PATH": "/usr/bin"},
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stderr
    result: dict[str, object] = json.loads(done.stdout)
    return result


def test_a_stage_is_found_everywhere(found: dict[str, object]) -> None:
    assert found["groups"][-1] == "fade" and "fade" in found["stages"]  # type: ignore[index,operator]
    assert found["declared"] and found["docs"] and found["sidecar"] and found["unknown"] == []
    assert found["control"] == ["enabled", "lift"] and found["half"]["fade.lift"] == 10.0  # type: ignore[index]
    assert found["followed"]["fade.lift"] == 20.0  # type: ignore[index]


def test_an_item_kind_is_found_everywhere(found: dict[str, object]) -> None:
    assert found["departs"] == ["notes/0000000a/text"] and found["things"] == ["here"]
    assert found["followed"]["notes/0000000a/text"] == "there"  # type: ignore[index]
    half = found["half"]
    assert half["notes/0000000a/text"] == "here" and half["notes/0000000a/light.exposure"] == 0.25  # type: ignore[index]
