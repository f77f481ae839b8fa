"""The web application: pages, their data, and the Bench's socket, behind the guard."""

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from fastapi.staticfiles import StaticFiles
from sqlalchemy.exc import SQLAlchemyError

from tanner.core.errors import NotAllowed, TannerError, problem
from tanner.web.api import (
    applied_presets,
    areas,
    automatic,
    captions,
    care,
    choosing,
    deliver,
    dust,
    exact,
    find,
    frames,
    geometry,
    grading,
    imports,
    keywords,
    kit,
    lineup,
    matching,
    merging,
    noise,
    profiles,
    sets,
    sheet,
    shoots,
    sidecars,
    spots,
    watching,
    work,
)
from tanner.web.language.catalogue import Language
from tanner.web.language.pages import templates
from tanner.web.screens import guide, pages
from tanner.web.serving import newsline
from tanner.web.serving.described import describe
from tanner.web.serving.guard import Guard
from tanner.web.serving.limit import Limit, TooLarge
from tanner.web.serving.services import Services
from tanner.web.viewer import socket as bench

HERE = Path(__file__).parents[1]


def create_app(services: Services, *, development: bool = False, language: Language | None = None) -> FastAPI:
    """Build the application around its services; it closes them when it ends.

    Args:
        development: the page of all parts is there too.
        language: of the pages; None is English.
    """

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        services.start()
        yield
        services.close()

    app = FastAPI(title="Tanner", lifespan=lifespan, docs_url=None, redoc_url=None, openapi_url="/api/openapi.json")
    app.state.services = services
    app.state.language = language
    app.state.pages = templates(HERE / "templates", language)
    app.add_middleware(Limit)
    app.add_middleware(Guard, token=services.token)
    describe(app)
    app.add_exception_handler(TannerError, _error_response)
    app.add_exception_handler(RequestValidationError, _invalid)
    app.add_exception_handler(SQLAlchemyError, _catalogue_trouble)
    for odd in (OverflowError, UnicodeError):
        app.add_exception_handler(odd, _odd)
    app.add_exception_handler(TooLarge, _too_large)
    app.add_exception_handler(OSError, _disk_trouble)
    for module in (
        guide,
        pages,
        sheet,
        shoots,
        imports,
        frames,
        areas,
        automatic,
        care,
        sets,
        bench,
        choosing,
        deliver,
        dust,
        exact,
        find,
        geometry,
        grading,
        keywords,
        kit,
        lineup,
        matching,
        merging,
        noise,
        profiles,
        sidecars,
        spots,
        watching,
        applied_presets,
        captions,
        work,
    ):
        app.include_router(module.router)
    app.include_router(newsline.router)
    if development:
        app.include_router(pages.development)
    app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    return app


async def _error_response(_: Request, error: Any) -> Response:
    return JSONResponse({"error": str(error)}, 403 if isinstance(error, NotAllowed) else 422)


async def _invalid(_: Request, error: Any) -> Response:
    return JSONResponse({"error": problem(error.errors()[0], 1)}, 422)


async def _odd(_: Request, error: Any) -> Response:
    """Numbers beyond what any catalogue counts to, and texts that are none."""
    what = (
        "There is nothing of this number."
        if isinstance(error, OverflowError)
        else "This text holds characters that are none."
    )
    return JSONResponse({"error": what}, 422)


async def _too_large(_: Request, error: Any) -> Response:
    return JSONResponse({"error": error.detail}, error.status_code)


async def _disk_trouble(_: Request, error: Any) -> Response:
    """What the disk refuses, most often a name: too long, or in a folder that is gone."""
    name = Path(str(error.filename)).name[:80] if error.filename else "A file"
    return JSONResponse({"error": f"{name}: the disk said no ({error.strerror or error})."}, 422)


async def _catalogue_trouble(request: Request, error: Any) -> Response:
    cause = getattr(error, "orig", error)
    if isinstance(cause, OverflowError | UnicodeError):
        return await _odd(request, cause)
    text = str(cause)
    why = {"full": " Make room on its disk.", "readonly": " Its folder may not be written to.", "locked": " Another program holds it; try again.",
           "malformed": " It may be damaged: stop Tanner and run tanner catalogue check."}  # fmt: skip
    hint = next((v for k, v in why.items() if k in text), "")
    return JSONResponse(
        {"error": f"The catalogue could not be read or written ({text}).{hint} Nothing was changed."}, 500
    )
