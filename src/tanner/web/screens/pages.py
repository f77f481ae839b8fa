"""The pages themselves, rendered from templates; their data is fetched by the modules in static/js."""

import json
from collections.abc import Callable, Iterable
from itertools import groupby
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response
from sqlalchemy import select

from tanner.catalogue.models import LABELS, Frame, FrameSet, Shoot
from tanner.catalogue.search.fields import NUMBERS, TEXTS, WORDS
from tanner.core.adjust.items import name_of
from tanner.core.adjust.registry import GROUPS, Adjustment, adjustments, declared
from tanner.core.areas.declare import AREAS
from tanner.core.colour.picked import PICKED
from tanner.core.colour.ranges import HUES
from tanner.core.colour.spaces import SPACES
from tanner.core.output.mark import PLACES
from tanner.core.output.naming import TOKENS
from tanner.core.output.spec import FORMATS
from tanner.core.profile.chart import SETS
from tanner.core.spots.declare import SPOTS
from tanner.web.api.common import WithServices, frame_of
from tanner.web.api.shoots import older_shoots, put_away, shoot_list, shoot_of
from tanner.web.language.catalogue import Language
from tanner.web.screens.help import HELP
from tanner.web.screens.modules import module
from tanner.web.serving.described import ABOUT, operations

router = APIRouter(default_response_class=HTMLResponse)
development = APIRouter(default_response_class=HTMLResponse)
TERMS = [
    *((word, about) for word, (about, _) in WORDS.items()),
    *((f"{name}:…", about) for name, (about, _) in TEXTS.items()),
    *((f"{name}>=…", field.about) for name, field in NUMBERS.items()),
    ("taken:2026-03", "the day, month or year it was taken; also taken>=2026-03-12"),
]
"""All that a search can say, for Help."""


IN_PICKED = {
    "Change": ("hue", "saturation", "lightness"),
    "Evenness": ("even_hue", "even_chroma", "even_lightness"),
    "Range": ("width", "softness", "weakest", "strongest", "darkest", "lightest"),
}
"""What a picked range has, in parts."""


def _grouped() -> list[tuple[str, Any, list[Adjustment]]]:
    """Groups in working order with their declared adjustments, for the Bench."""
    return [(g, model, [a for a in adjustments().values() if a.group == g]) for g, model in GROUPS.items()]


def _sections() -> list[tuple[str, list[tuple[str, Any]]]]:
    """The groups under their headings, in working order."""
    return [(section, list(members)) for section, members in groupby(GROUPS.items(), lambda item: item[1].section)]


FIRST_ROWS = 100
"""Frames that the Sheet shows before it knows all of its shoot: more than a window holds."""


def _of_areas() -> list[Adjustment]:
    """What each area can have, declared for one that stands for all: the page puts the chosen one's id in its place."""
    names = ("amount", "refine", "grow", "soften", "density", "blur", *AREAS.adjustments)
    return [a for n in names if (a := declared(name_of(AREAS.key, "00000000", n)))]


def _of_picked() -> list[tuple[str, list[Adjustment]]]:
    """What a picked range has, in parts, declared for one that stands for all."""
    return [
        (t, [a for n in names if (a := declared(name_of(PICKED.key, "00000000", n)))]) for t, names in IN_PICKED.items()
    ]


def _of_spots() -> list[Adjustment]:
    """The controls of a spot, declared for one that stands for all."""
    return [a for n in ("softness", "opacity", "calm_size") if (a := declared(name_of(SPOTS.key, "00000000", n)))]


def _by_group(controls: list[Adjustment]) -> list[tuple[str, list[Adjustment]]]:
    """What areas change, under the titles of the groups that it belongs to."""
    of = [(GROUPS[a.key.split("/")[2].split(".")[0]].title, a) for a in controls if "." in a.key]
    of += [("Blur", a) for a in controls if a.name == "blur"]
    return [(title, [a for _, a in members]) for title, members in groupby(of, lambda item: item[0])]


def page(request: Request, name: str, **values: Any) -> Response:
    found: Response = request.app.state.pages.TemplateResponse(
        request, name, {"help": HELP.get(values.get("screen", "")), "module": module, **values}
    )
    return found


def _translator(request: Request) -> Callable[[str], str]:
    """Puts what the program says into the reader's language."""
    language: Language | None = request.app.state.language
    return language.translated if language else str


def _table(request: Request, some: Iterable[Adjustment]) -> dict[str, dict[str, Any]]:
    """What the scripts know of adjustments, by their full names, in the reader's language."""
    translated = _translator(request)
    return {a.key: a.as_dict() | {k: translated(a.as_dict()[k]) for k in ("label", "help")} for a in some}


@router.get("/")
def shoots(request: Request, services: WithServices) -> Response:
    with services.catalogue.read() as session:
        lists = {"shoots": shoot_list(session), "older": older_shoots(session), "away": put_away(session)}
    return page(request, "shoots.html", screen="shoots", **lists)


@router.get("/shoots/{shoot_id}")
def shoot_start(shoot_id: int, services: WithServices) -> Response:
    """A shoot opens where work goes on: its Sheet, or Import while it is empty."""
    with services.catalogue.read() as session:
        shoot_of(session, shoot_id)
        some = session.scalar(select(Frame.id).where(Frame.shoot_id == shoot_id).limit(1))
    return RedirectResponse(f"/shoots/{shoot_id}/{'sheet' if some else 'import'}", 303)


def _shoot_page(request: Request, services: WithServices, shoot_id: int, name: str, **values: Any) -> Response:
    with services.catalogue.read() as session:
        shoot = shoot_of(session, shoot_id)
    return page(request, f"{name}.html", shoot=shoot, screen=name, **values)


@router.get("/shoots/{shoot_id}/import")
def import_page(request: Request, shoot_id: int, services: WithServices) -> Response:
    return _shoot_page(request, services, shoot_id, "import")


@router.get("/shoots/{shoot_id}/choose")
def choose_page(request: Request, shoot_id: int, services: WithServices) -> Response:
    """Choose the few that matter among near-alikes."""
    return _shoot_page(request, services, shoot_id, "choose")


@router.get("/shoots/{shoot_id}/sheet")
def sheet_page(request: Request, shoot_id: int, services: WithServices) -> Response:
    return _shoot_page(
        request,
        services,
        shoot_id,
        "sheet",
        label_choices=[(label, label) for label in LABELS],
        groups=_grouped(),
        first_rows=FIRST_ROWS,
    )


@router.get("/shoots/{shoot_id}/bench")
def bench_page(request: Request, shoot_id: int, services: WithServices, frame: int | None = None) -> Response:
    with services.catalogue.read() as session:
        if frame is None:
            query = select(Frame.id).where(Frame.shoot_id == shoot_id).order_by(Frame.taken, Frame.name)
            frame = session.scalar(query.limit(1))
            if frame is None:
                return RedirectResponse(f"/shoots/{shoot_id}/import", 303)
        elif frame_of(session, frame).shoot_id != shoot_id:
            return RedirectResponse(f"/shoots/{shoot_id}/bench", 303)
    controls, picked, spots = _of_areas(), _of_picked(), _of_spots()
    all_of_them = (*adjustments().values(), *controls, *spots, *(a for _, members in picked for a in members))
    table = _table(request, all_of_them)
    for a in all_of_them:
        table[a.key]["offset"] = a.spec.offset
    return _shoot_page(
        request,
        services,
        shoot_id,
        "bench",
        frame=frame,
        groups=_grouped(),
        sections=_sections(),
        area_controls=controls,
        area_groups=_by_group(controls),
        picked_groups=picked,
        spot_controls=spots,
        table=json.dumps(table),
        hues=json.dumps(HUES),
    )


@router.get("/shoots/{shoot_id}/lineup")
def lineup_page(request: Request, shoot_id: int, services: WithServices) -> Response:
    return _shoot_page(request, services, shoot_id, "lineup")


@router.get("/shoots/{shoot_id}/deliver")
def deliver_page(request: Request, shoot_id: int, services: WithServices) -> Response:
    services.wake_deliveries()
    return _shoot_page(
        request,
        services,
        shoot_id,
        "deliver",
        spaces=SPACES,
        tokens=TOKENS,
        formats=FORMATS,
        places=PLACES,
        specs=len(services.library.specs()[0]),
        roots=[str(r) for r in services.folders.roots],
    )


@router.get("/shoots/{shoot_id}/profile")
def profile_page(request: Request, shoot_id: int, services: WithServices, frame: int) -> Response:
    """Make a camera profile from a frame that shows a chart."""
    with services.catalogue.read() as session:
        first = frame_of(session, frame)
        if first.shoot_id != shoot_id:
            return RedirectResponse(f"/shoots/{shoot_id}/bench", 303)
        query = select(Frame).where(Frame.shoot_id == shoot_id, Frame.camera == first.camera)
        others = [f for f in session.scalars(query.order_by(Frame.taken, Frame.name)) if f.id != first.id]
        lights = {f.id: f"{f.as_shot[0]:.0f} K" if f.as_shot else "" for f in [first, *others]}
    sets = [(key, title) for key, (title, _) in SETS.items()]
    return _shoot_page(request, services, shoot_id, "profile", frame=first, others=others, lights=lights, sets=sets)


@router.get("/find")
def find_page(request: Request) -> Response:
    """Frames of all shoots."""
    return page(request, "find.html", screen="find", terms=TERMS)


TRIED_ON = 24  # leads that Kit offers to show presets and profiles on


@router.get("/kit")
def kit_page(request: Request, services: WithServices) -> Response:
    """What is used again, shown on a frame of one's own: leads of the newest shoots are offered."""
    query = select(Frame.id, Frame.name, Shoot.name).join(FrameSet, FrameSet.lead_id == Frame.id)
    query = query.join(Shoot, Shoot.id == Frame.shoot_id).where(Shoot.away.is_(False), Frame.error == "")
    order = (Frame.stars.desc(), Shoot.created.desc(), Frame.taken, Frame.id)
    with services.catalogue.read() as session:
        frames = list(session.execute(query.order_by(*order).limit(TRIED_ON)))
    table = json.dumps(_table(request, adjustments().values()))
    titles = json.dumps({key: _translator(request)(group.title) for key, group in GROUPS.items()})
    return page(
        request, "kit.html", screen="kit", groups=_grouped(), spaces=SPACES, frames=frames, table=table, titles=titles
    )


@router.get("/programs")
def programs(request: Request, services: WithServices) -> Response:
    """The API for programs, described."""
    file = services.catalogue.folder / "token"
    return page(
        request,
        "api.html",
        screen="kit",
        about=ABOUT,
        groups=operations(request.app),
        token_file=f"{file.parent.name}/{file.name}",
    )


@router.get("/language.js", include_in_schema=False)
def language_script(request: Request) -> Response:
    """The texts of the chosen language, for the scripts; nothing in English. Its name changes with what it says."""
    language: Language | None = request.app.state.language
    kept = {"cache-control": "private, max-age=31536000, immutable"} if language else None
    return Response(language.script if language else "", media_type="text/javascript", headers=kept)


@development.get("/parts")
def parts(request: Request) -> Response:
    """All parts of the pages in all their states: looked at while they are made, and by the tests."""
    return page(request, "parts.html", screen="parts")
