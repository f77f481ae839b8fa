"""Dropped frames and their files: what goes with each, into the system's trash, and back by undo."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.alternates import take_out
from tanner.catalogue.models import WITH_GONE, Action, DeliveryItem, Frame, FrameSet, Patch, Shoot
from tanner.core.errors import TannerError
from tanner.core.output import trash


def files_of(path: Path, beside: Mapping[str, Sequence[Path]] | None = None) -> list[Path]:
    """An original and its companions: files beside it of the same name but for the ending, or with one more (a.dng, a.jpg, a.dng.xmp).

    Args:
        beside: see `_by_stem`, of its folder, where that was read already.
    """
    there = _by_stem(path.parent) if beside is None else beside
    # Alternates have sidecars of their own: a_alt1.dng.xmp.
    names = {path.stem.casefold(), path.name.casefold()}
    return sorted(p for name in names for p in there.get(name, ()))


def _by_stem(folder: Path) -> dict[str, list[Path]]:
    """The files of a folder by their names without the last ending; capitals do not count."""
    found: dict[str, list[Path]] = {}
    try:
        for path in folder.iterdir():
            if path.is_file() and not path.is_symlink():
                found.setdefault(path.stem.casefold(), []).append(path)
    except OSError:
        pass
    return found


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _others(session: Session, paths: Sequence[str], going: set[int]) -> dict[str, str]:
    """Paths that frames need which stay, and the name of a shoot that needs each."""
    found: dict[str, str] = {}
    for at in range(0, len(paths), 500):
        query = select(Frame.path, Frame.id, Shoot.name).join(Shoot, Shoot.id == Frame.shoot_id)
        for path, frame, shoot in session.execute(query.where(Frame.path.in_(paths[at : at + 500]))):
            if frame not in going:
                found[path] = shoot
    return found


def listed(session: Session, frames: Sequence[Frame]) -> list[dict[str, Any]]:
    """What would go with each frame: {frame, name, files: [{path, bytes}], bytes, lead, delivered, stays: why its file would not go}."""
    going = {f.id for f in frames}
    leads = set(session.scalars(select(FrameSet.lead_id).where(FrameSet.lead_id.in_(going))))
    query = select(DeliveryItem.frame_id).where(DeliveryItem.frame_id.in_(going), DeliveryItem.state == "done")
    delivered = set(session.scalars(query))
    folders = {folder: _by_stem(folder) for folder in {Path(f.path).parent for f in frames}}
    files = {f.id: files_of(Path(f.path), folders[Path(f.path).parent]) for f in frames}
    needed = _others(session, [str(p) for each in files.values() for p in each], going)
    rows = []
    for frame in frames:
        mine = [p for p in files[frame.id] if str(p) not in needed]
        stays = f"its file is needed in {needed[frame.path]}" if frame.path in needed else ""
        if not stays and Path(frame.path) not in mine:
            stays = "its file is not there"
        rows.append(
            {
                "frame": frame.id,
                "name": frame.name,
                "files": [] if stays else [{"path": str(p), "bytes": _size(p)} for p in mine],
                "bytes": 0 if stays else sum(_size(p) for p in mine),
                "lead": frame.id in leads,
                "delivered": frame.id in delivered,
                "stays": stays,
            }
        )
    return rows


def put_into_trash(
    session: Session,
    frames: Sequence[Frame],
    *,
    leads: bool = False,
    delivered: bool = False,
    allowed: Callable[[str], object] = lambda path: None,
) -> tuple[Action | None, list[str]]:
    """Put the files of frames into the trash and take the frames out, as one step; what could not be done is told.

    Frames whose file cannot go stay as they are. Where the step fails as a whole, files that were moved come back.

    Args:
        leads, delivered: these go, too; else they stay and are told.
        allowed: refuses paths outside the folders that are open.
    """
    messages: list[str] = []
    going: list[Frame] = []
    moved: dict[int, list[trash.Trashed]] = {}
    by_id = {f.id: f for f in frames}
    in_trash: set[str] = set()
    try:
        for row in listed(session, frames):
            why = row["stays"] or ("leads its set" if row["lead"] and not leads else "")
            why = why or ("was delivered" if row["delivered"] and not delivered else "")
            if why:
                messages.append(f"{row['name']}: {why}; it stays.")
                continue
            try:
                for file in row["files"]:
                    if file["path"] in in_trash:
                        continue  # an alternate's, which goes with the frame
                    allowed(file["path"])
                    moved.setdefault(row["frame"], []).append(trash.put(Path(file["path"])))
                    in_trash.add(file["path"])
            except TannerError as error:
                messages.append(str(error))
                messages += _returned(moved.pop(row["frame"], []))
                continue
            going.append(by_id[row["frame"]])
        action = None
        if going:
            places = {i: [t.as_dict() for t in each] for i, each in moved.items()}
            action = take_out(session, going, places)
            session.flush()
        return action, messages
    except BaseException:
        for each in moved.values():
            _returned(each)
        raise


def _returned(files: Iterable[trash.Trashed]) -> list[str]:
    messages = []
    for each in files:
        try:
            trash.back(each)
        except TannerError as error:
            messages.append(str(error))
    return messages


def follow(session: Session, action: Action | None, *, undone: bool) -> list[str]:
    """Files of a step that was undone come back from the trash, those of one that was done again go there; what failed is told."""
    if action is None:
        return []
    messages: list[str] = []
    query = select(Patch).where(Patch.action_id == action.id, Patch.kind == "frame")
    for patch in session.scalars(query):
        places = patch.after.get("trashed")
        if not places:
            continue
        files = [trash.Trashed(Path(p["path"]), Path(p["trash"]), p["name"]) for p in places]
        if undone:
            messages += _returned(files)
            continue
        again = []
        for each in files:
            try:
                again.append(trash.put(each.path).as_dict())
            except TannerError as error:
                messages.append(str(error))
        frame = session.get(Frame, patch.target, execution_options=WITH_GONE)
        patch.after = {**patch.after, "trashed": again}
        if frame is not None:
            frame.trashed = again
    return messages
