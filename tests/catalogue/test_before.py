"""A catalogue that the code before areas made (its history holds whole layers): opened, shown, undone and redone as before.

tests/catalogue/before/catalogue.zip: three frames, eight steps, the last undone; states.json: what each step left, as that code
resolved it.
"""

import json
import zipfile
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.development import set_values
from tanner.catalogue.models import Frame
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.steps import history, redo, state_after, undo
from tanner.catalogue.store import Catalogue

HERE = Path(__file__).parent / "before"


def state(session: Session) -> dict[str, Any]:
    resolver = Resolver(session, 1)
    return {
        f.name: {
            "own": f.own,
            "offsets": f.offsets,
            "stars": f.stars,
            "words": f.words,
            "worn": [w["name"] for w in f.worn],
            "shown": resolver.resolve(f).values,
        }
        for f in session.scalars(select(Frame).order_by(Frame.name))
    }


def test_it_is_opened_shown_undone_and_redone(tmp_path: Path) -> None:
    with zipfile.ZipFile(HERE / "catalogue.zip") as packed:
        packed.extractall(tmp_path)
    states = json.loads((HERE / "states.json").read_text())
    catalogue = Catalogue(tmp_path)
    with catalogue.write() as session:
        assert state(session) == states[-2]
        assert redo(session, 1) is not None and state(session) == states[-1]
        for wanted in reversed(states[:-1]):
            assert undo(session, 1) is not None and state(session) == wanted
        while redo(session, 1):
            pass
        assert state(session) == states[-1]
        # New steps, which keep names alone, on top of old ones.
        frame = session.scalars(select(Frame).order_by(Frame.name)).all()[1]
        steps = history(session, frame)
        set_values(session, Resolver(session, 1), [frame], {"light.contrast": 55.0})
        assert frame.own["light.contrast"] == 55.0
        assert state_after(session, frame, steps[0]["action"])["own"] == states[-1][frame.name]["own"]
        assert undo(session, 1) is not None and state(session) == states[-1]
    catalogue.close()
