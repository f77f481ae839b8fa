"""The documented part of the API: what programs may build on, as an OpenAPI description and as a page."""

from typing import Any

from fastapi import FastAPI
from fastapi.openapi.utils import get_openapi

PUBLIC = (
    "shoots",
    "import",
    "frames",
    "words",
    "sets",
    "presets",
    "line-up",
    "matching",
    "deliveries",
    "watching",
    "kit",
)
"""Tags that are described; the other routes serve the pages only and may change."""
ABOUT = """Shoots, frames, their development, presets and deliveries of the Tanner that runs on this machine.

Send the token that lies in the catalogue's folder, in the file token: Authorization: Bearer TOKEN. Errors are JSON with one
field, error, that says what happened and what to do. Long work is started by one call and asked for by another."""


def describe(app: FastAPI) -> None:
    """Give the application its description."""

    def openapi() -> dict[str, Any]:
        if app.openapi_schema is None:
            schema = get_openapi(title="Tanner", version="1", description=ABOUT, routes=app.routes)
            paths: dict[str, Any] = {}
            for path, calls in schema["paths"].items():
                kept = {m: c for m, c in calls.items() if (c.get("tags") or [""])[0] in PUBLIC}
                if kept:
                    paths[path] = kept
            schema["paths"] = paths
            parts = schema.setdefault("components", {})
            parts["securitySchemes"] = {"token": {"type": "http", "scheme": "bearer"}}
            schema["security"] = [{"token": []}]
            schema["tags"] = [{"name": t} for t in PUBLIC]
            app.openapi_schema = schema
        return app.openapi_schema

    app.openapi = openapi  # type: ignore[method-assign]


def operations(app: FastAPI) -> list[tuple[str, list[dict[str, Any]]]]:
    """Calls by tag for the page: method, path, what it does, parameters and body."""
    schema = app.openapi()
    models = schema.get("components", {}).get("schemas", {})
    found: dict[str, list[dict[str, Any]]] = {t: [] for t in PUBLIC}
    for path, calls in schema["paths"].items():
        for method, call in calls.items():
            body = call.get("requestBody", {}).get("content", {}).get("application/json", {}).get("schema", {})
            model = models.get(body.get("$ref", "").rpartition("/")[2], {})
            required = model.get("required", [])
            found[call["tags"][0]].append(
                {
                    "method": method.upper(),
                    "path": path,
                    "about": call.get("description", "") or call.get("summary", ""),
                    "parameters": [
                        f"{p['name']}{'' if p.get('required') else ' (optional)'}" for p in call.get("parameters", [])
                    ],
                    "fields": [f"{n}{'' if n in required else ' (optional)'}" for n in model.get("properties", {})],
                }
            )
    return [(tag, rows) for tag, rows in found.items() if rows]
