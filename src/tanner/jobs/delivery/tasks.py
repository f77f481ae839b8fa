"""What worker processes do for a delivery: plain functions of plain values."""

import fcntl
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from functools import partial
from pathlib import Path
from typing import Any

from tanner.core.adjust.registry import develop
from tanner.core.output.captions import Captions
from tanner.core.output.develop import encode, one_pass, size_for, target_path, write_file
from tanner.core.output.files import stay_within
from tanner.core.output.naming import name_values
from tanner.core.output.spec import OutputSpec
from tanner.core.raw.reader import read
from tanner.core.series.preset import Preset
from tanner.core.spots.declare import MOST
from tanner.core.spots.find import USUAL, as_settings, specks
from tanner.jobs.delivery import journal as journals
from tanner.jobs.tasks import about, starting


def ready_to_deliver() -> bool:
    """Develops a small made-up frame, so that the first delivery does not wait for kernels to be loaded."""
    from tanner.core.adjust.registry import defaults
    from tanner.core.render import render
    from tanner.core.warm import synthetic

    render(synthetic(), develop(defaults(raw=True, lens=True)), (240, 180))
    return True


def develop_file(
    path: str,
    settings: dict[str, Any],
    specs: list[dict[str, Any]],
    folder: str,
    *,
    rules: bool = True,
    threads: int = 1,
    captions: dict[str, Any] | None = None,
    tokens: dict[str, Any] | None = None,
    targets: list[str] | None = None,
    within: str = "",
    preset: tuple[dict[str, Any], float] | None = None,
    journal: tuple[str, list[int]] | None = None,
    spots: bool = False,
) -> list[dict[str, Any]]:
    """Decode and develop a file once and write it through several specs.

    Args:
        settings: sparse; with `rules` they stand above the defaults by rule.
        words: fields of `Captions`, whose texts may hold tokens; tokens: values of `name_values` for them, for names and
            for watermarks.
        targets: full paths, one per spec, where the caller has chosen them already.
        within: a folder that no target may lead out of, be it by links; "": the target's own folder is meant.
        preset: a preset and its amount, under the settings.
        spots: specks that are found are healed, besides those of the settings.
        journal: a file that is told of each file right before it is put in place, and a number for each spec.

    Returns:
        One result per spec, in their order: see `write_file`; or {"path", "error"}.
    """
    original = Path(path)
    results: list[dict[str, Any]] = [{} for _ in specs]
    with ExitStack() as held:
        if journal:
            # Held from the start: a program that starts anew waits for workers that outlive the one before.
            busy = held.enter_context(Path(f"{journal[0]}.busy").open("w"))
            fcntl.flock(busy, fcntl.LOCK_SH)
        said = journals.lines_of(Path(journal[0])) if journal else {}
        started = time.perf_counter()
        source = read(original)
        decoded = time.perf_counter() - started
        start = starting(source.facts, lens=source.lens is not None) if rules else {}
        if preset:
            start |= Preset(**preset[0]).at(preset[1], about(source))
        found = as_settings([f for f in specks(source) if f.confidence >= USUAL][:MOST]) if spots else {}
        development = develop({**start, **found, **settings})
        parsed = [OutputSpec(**values) for values in specs]
        pool = held.enter_context(ThreadPoolExecutor(threads)) if threads > 1 else None
        for place, index in enumerate(one_pass(source, development, parsed)):
            spec = parsed[index]
            size = size_for(source, development, spec)
            given = {"taken": source.facts.taken, **(tokens or {})}
            values = name_values(name=original.stem, spec=spec.title, size=size, **given)
            target = Path(targets[index]) if targets else target_path(Path(folder), spec, values)
            # Done already by a worker that ended before it could say so.
            line = journals.placed(said, journal[1][index], target.parent) if journal else None
            if line:
                made = {"width": size[0], "height": size[1], "seconds": 0.0, "warnings": [], "skipped": False}
                results[index] = {"file": path, "spec": spec.title, **line, **made}
                continue
            try:
                if within or not targets:
                    stay_within(Path(within or folder), target)
                done = write_file(
                    source,
                    development,
                    spec,
                    target,
                    captions=Captions(**(captions or {})).with_tokens(values),
                    pool=pool,
                    original=original,
                    tokens=values,
                    announce=partial(journals.note, journal[0], journal[1][index]) if journal else None,
                    tag=f"{Path(journal[0]).stem}-" if journal else "",
                )
                done["seconds"] = round(done.get("seconds", 0) + (decoded if place == 0 else 0), 3)
            except Exception as error:
                done = {"path": str(target), "error": str(error)}
            results[index] = {"file": path, "spec": spec.title, **done}
    return results


def encoded(
    path: str, settings: dict[str, Any], spec: dict[str, Any], captions: dict[str, Any], tokens: dict[str, Any]
) -> tuple[bytes, tuple[int, int]]:
    """One finished file as bytes, and its size in px, without writing it: a proof."""
    source = read(Path(path))
    parsed, development = OutputSpec(**spec), develop(settings)
    size = size_for(source, development, parsed)
    values = name_values(name=Path(path).stem, spec=parsed.title, size=size, **tokens)
    return encode(source, development, parsed, Captions(**captions).with_tokens(values), tokens=values)
