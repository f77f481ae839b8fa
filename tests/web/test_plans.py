"""What pages ask of the catalogue is answered by indexes: by SQLite's own word, for every statement of the commonest requests."""

import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from sqlalchemy import event
from tests.serving import Running

from tanner.catalogue.models import Frame

LARGE = ("frame", "patch", "action", "delivery_item", "frame_facet", "frame_keyword")
"""Tables that grow with the work of years."""


@contextmanager
def _heard(server: Running) -> Iterator[list[tuple[str, Any]]]:
    said: list[tuple[str, Any]] = []

    def hear(_: Any, __: Any, statement: str, parameters: Any, ___: Any, many: bool) -> None:
        if not many and statement.lstrip().upper().startswith(("SELECT", "UPDATE", "DELETE", "WITH")):
            said.append((statement, parameters))

    event.listen(server.services.catalogue.engine, "before_cursor_execute", hear)
    try:
        yield said
    finally:
        event.remove(server.services.catalogue.engine, "before_cursor_execute", hear)


def _scanned(server: Running, said: list[tuple[str, Any]]) -> list[str]:
    """Statements that go through all of a large table."""
    found = []
    with server.services.catalogue.engine.connect() as connection:
        for statement, parameters in dict(said).items():
            plan = connection.exec_driver_sql("EXPLAIN QUERY PLAN " + statement, parameters)
            for row in plan:
                table = re.match(r"SCAN (\w+)(?! USING)", row[3])
                if table and table.group(1) in LARGE:
                    found.append(f"{row[3]}: {statement[-260:]}")
    return found


def test_no_common_request_goes_through_all_of_a_large_table(server: Running) -> None:
    with server.services.catalogue.read() as session:
        frame = session.query(Frame).filter_by(shoot_id=1).first()
        assert frame
        ident, group = frame.id, frame.set_id
    reads = (
        "/", "/shoots/1/sheet", "/shoots/1/bench", "/shoots/1/deliver", "/shoots/1/choose", "/find", "/kit",
        "/api/shoots/1/sheet", "/api/shoots/1/sheet?first=100", "/api/shoots/1/choosing", f"/api/frames/{ident}",
        f"/api/shoots/1/lineup?set={group}", "/api/find/facets?q=&shoot=1",
        "/api/keywords/suggest?q=la&shoot=1", "/api/work", "/api/shoots/1/pictures?since=0", "/api/shoots/1/dropped", "/api/keywords",
    )  # fmt: skip
    server.get("/api/find/facets?q=&shoot=1")  # reads all once
    told = server.get("/api/shoots/1/sheet")
    reads = (*reads, f"/api/shoots/1/sheet?since={told['tick']}&basis={told['basis']}")
    with _heard(server) as said:
        for path in reads:
            assert server.client.get(path).status_code == 200, path
        server.post("/api/edit", {"frames": [ident], "values": {"light.exposure": 0.31}})
        server.post("/api/marks", {"frames": [ident], "stars": 3})
        server.post("/api/shoots/1/undo")
        server.post("/api/shoots/1/undo")
        server.post("/api/shoots/1/want", {"frames": [ident]})
        server.post("/api/shoots/1/choose", {"filter": "keep stars>=3"})
    assert len(said) > 60
    found = _scanned(server, said)
    assert not found, "\n".join(found)
