"""What goes with a delivery: a contact sheet and an order sheet as PDF, lists, checksums, and all of it as one zip."""

import csv
import io
import os
import tempfile
import zipfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, field_validator
from sqlalchemy import select

from tanner.catalogue.captions import captions_of
from tanner.catalogue.models import Delivery, Frame, Shoot
from tanner.catalogue.store import Catalogue
from tanner.core.errors import WriteFailed
from tanner.core.output.files import TEMPORARY, free_name, write_whole
from tanner.core.output.naming import check_template, clean, filled, name_values
from tanner.jobs.cluster import Cluster
from tanner.jobs.delivery.planning import tokens_of
from tanner.jobs.delivery.record import record_of
from tanner.jobs.delivery.sheets import Entry, sheet_pdf
from tanner.jobs.workers import Workers

COLUMNS = ("number", "original", "spec", "path", "state", "width", "height", "bytes", "sha256", "message")


class Documents(BaseModel):
    """What is written beside the files.

    Attributes:
        contact, order: a sheet of all frames; rows, columns: pictures on a page; caption: a template under each; header:
            a line above.
        table, record: the list as CSV, and as JSON; checksums: a file that `sha256sum -c` takes; zip: all files in one.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    contact: bool = False
    order: bool = False
    rows: int = Field(default=5, ge=1, le=12)
    columns: int = Field(default=4, ge=1, le=10)
    caption: str = Field(default="{name}", max_length=200)
    header: str = Field(default="{shoot}", max_length=200)
    table: bool = False
    record: bool = False
    checksums: bool = False
    zip: bool = False

    @field_validator("caption", "header")
    @classmethod
    def _template_is_known(cls, value: str) -> str:
        check_template(value)
        return value

    @property
    def any(self) -> bool:
        return self.contact or self.order or self.table or self.record or self.checksums or self.zip


def table_of(record: Mapping[str, Any]) -> bytes:
    """The list of files as CSV in UTF-8, paths below the delivery's folder."""
    out = io.StringIO(newline="")
    writer = csv.DictWriter(out, COLUMNS)
    writer.writeheader()
    for item in record["items"]:
        row = {k: item[k] for k in COLUMNS}
        row["spec"], row["path"] = record["specs"][item["spec"]]["title"], _below(item["path"], record["folder"])
        # A text that begins like a formula is one to spreadsheets.
        writer.writerow({k: _no_formula(v) for k, v in row.items()})
    return b"\xef\xbb\xbf" + out.getvalue().encode()


def _no_formula(value: Any) -> Any:
    """Spreadsheets skip blanks and tabs before they look for a formula."""
    formula = isinstance(value, str) and value.lstrip("\t\r\n \u00a0\ufeff\0")[:1] in tuple("=+-@＝＋－＠")
    return f"'{value}" if formula else value


def checksums_of(record: Mapping[str, Any]) -> bytes:
    """SHA-256 and path of each written file, as `sha256sum` writes them."""
    lines = []
    for item in record["items"]:
        if item["state"] != "done":
            continue
        name = _below(item["path"], record["folder"])
        # A name that begins with a dash is an option to programs, and "-" alone is their standard input.
        name = f"./{name}" if name.startswith("-") else name
        # As sha256sum itself writes names that hold a line's end or a backslash.
        plain = name.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
        mark = "\\" if plain != name else ""
        lines.append(f"{mark}{item['sha256']}  {plain}\n")
    return "".join(lines).encode()


def _below(path: str, folder: str) -> str:
    return path.removeprefix(f"{folder}/")


def write_asked_for(catalogue: Catalogue, delivery_id: int, workers: Workers | Cluster) -> None:
    """Write what was asked for beside the files of a delivery; what cannot be written is told and spoils nothing."""
    with catalogue.read() as session:
        delivery = session.get_one(Delivery, delivery_id)
        wanted = delivery.options.get("documents")
        if not wanted:
            return
        record = {**record_of(session, delivery), "state": "done"}
        shoot = session.get_one(Shoot, delivery.shoot_id)
        name, earlier = shoot.name, delivery.options.get("written", [])
        words = {
            f.id: {**captions_of(shoot, f), **tokens_of(f, 0, shoot.name, "", "")}
            for f in session.scalars(select(Frame).where(Frame.shoot_id == shoot.id))
        }
    written = write_documents(Documents(**wanted), record, name, words, earlier, workers)
    with catalogue.write() as session:
        delivery = session.get_one(Delivery, delivery_id)
        delivery.options = {**delivery.options, "written": written}


def write_documents(
    wanted: Documents,
    record: dict[str, Any],
    shoot: str,
    tokens: Mapping[int, Mapping[str, Any]],
    earlier: Sequence[Mapping[str, str]],
    workers: Workers | Cluster,
) -> list[dict[str, str]]:
    """Write what is wanted into the delivery's folder.

    Args:
        tokens: by frame, for captions; earlier: documents of the same delivery, which are written anew.

    Returns:
        For each document {"kind", "path"}, or {"kind", "error"}.
    """
    import json

    folder = Path(record["folder"])
    base = clean(f"{shoot} delivery {record['delivery']}")
    mine = {e["kind"]: Path(e["path"]) for e in earlier if "path" in e}
    result: list[dict[str, str]] = []

    def put(kind: str, ending: str, data: bytes) -> None:
        path = mine.get(kind) or free_name(folder / f"{base}{ending}")
        try:
            write_whole(path, data, replace=kind in mine)
            result.append({"kind": kind, "path": str(path)})
        except WriteFailed as error:
            result.append({"kind": kind, "error": str(error)})

    for kind, on in (("contact", wanted.contact), ("order", wanted.order)):
        if on:
            entries = _entries(record, wanted, tokens)
            title = filled(wanted.header, name_values(name="", shoot=shoot))
            try:
                size = wanted.rows, wanted.columns
                put(
                    kind,
                    f" {kind} sheet.pdf",
                    workers.submit(sheet_pdf, entries, title, size, kind == "order").result(),
                )
            except Exception as error:
                result.append({"kind": kind, "error": str(error)})
    if wanted.table:
        put("table", ".csv", table_of(record))
    if wanted.record:
        put("record", ".json", json.dumps({k: v for k, v in record.items() if k != "documents"}, indent=1).encode())
    if wanted.checksums:
        put("checksums", ".sha256", checksums_of(record))
    if wanted.zip:
        path = mine.get("zip") or free_name(folder / f"{base}.zip")
        try:
            _write_zip(path, record, [Path(r["path"]) for r in result if "path" in r], replace="zip" in mine)
            result.append({"kind": "zip", "path": str(path)})
        except OSError as error:
            result.append({"kind": "zip", "error": f"{path.name}: could not be written ({error.strerror or error})."})
    return result


def _entries(record: Mapping[str, Any], wanted: Documents, tokens: Mapping[int, Mapping[str, Any]]) -> list[Entry]:
    """One entry a frame: the smallest picture of it that was written and can be shown, and its caption."""
    found: dict[int, dict[str, Any]] = {}
    for item in record["items"]:
        shown = record["specs"][item["spec"]]["format"] in ("jpeg", "png", "webp", "avif", "avif10", "avif12", "tiff8")
        if item["state"] != "done" or not shown:
            continue
        old = found.get(item["frame"])
        if old is None or item["width"] * item["height"] < old["width"] * old["height"]:
            found[item["frame"]] = item
    entries = []
    for frame, item in found.items():
        given = {k: v for k, v in tokens.get(frame, {}).items() if k in _TOKEN_NAMES}
        given["number"] = item["number"]
        values = name_values(name=Path(item["original"]).stem, size=(item["width"], item["height"]), **given)
        entries.append((item["path"], filled(wanted.caption, values)))
    return entries


_TOKEN_NAMES = {"taken", "number", "shoot", "group", "text", "stars", "label", "camera", "lens", "iso", "keyword"}


def _write_zip(path: Path, record: Mapping[str, Any], more: Sequence[Path], replace: bool) -> None:
    """All files of a delivery with their folders, stored, not packed again; whole or not at all."""
    handle, temporary = tempfile.mkstemp(prefix=TEMPORARY, dir=path.parent)
    try:
        with os.fdopen(handle, "wb") as out:
            with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
                for item in record["items"]:
                    if item["state"] == "done":
                        archive.write(item["path"], _below(item["path"], record["folder"]))
                for document in more:
                    archive.write(document, document.name)
            out.flush()
            os.fsync(out.fileno())
        Path(temporary).chmod(0o644)
        if replace:
            Path(temporary).replace(path)
        else:
            os.link(temporary, path)
    finally:
        Path(temporary).unlink(missing_ok=True)
