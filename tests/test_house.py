"""Files and functions that can be read in one sitting; what is longer is named here, with its reason."""

import ast
from pathlib import Path

import tanner

ROOT = Path(tanner.__file__).parent
FILE, FUNCTION = 400, 60

A_SCENE = "a scene is a list of its parts, one after the other"
ONE_PASS = "one compiled pass over the px: parted, its values would go through memory"
LONG = {
    "catalogue/migrations/versions/0001_first_tables.py upgrade": "all tables, as they were generated; migrations are not changed",
    "cli/deliver.py deliver": "each option of the command is one parameter, and is checked where it is read",
    "cli/develop.py develop": "each option of the command is one parameter, and is checked where it is read",
    "core/optics/runs.py cells": ONE_PASS,
    "core/stages/sharpening.py sharpen_block": ONE_PASS,
    "studio/scenes/figure/base.py posed": A_SCENE,
    "studio/scenes/figure/person.py build": A_SCENE,
    "studio/scenes/products.py instrument": A_SCENE,
    "studio/scenes/products.py lamp": A_SCENE,
    "studio/scenes/still.py table_top": A_SCENE,
    "studio/scenes/workshop.py workshop": A_SCENE,
}
"""Functions of more than 60 lines, without their signature and docstring."""


def test_files_are_no_longer_than_one_sitting() -> None:
    files = [p for ending in ("py", "js", "html", "css") for p in ROOT.rglob(f"*.{ending}")]
    ours = [p for p in files if p.name != "tanner.css"]  # the built style sheet
    assert len(ours) > 400
    assert not {str(p.relative_to(ROOT)) for p in ours if p.read_text().count("\n") > FILE}


def code_of(function: ast.FunctionDef | ast.AsyncFunctionDef) -> int:
    first = function.body[1 if ast.get_docstring(function) and len(function.body) > 1 else 0]
    return (function.end_lineno or 0) - first.lineno + 1


def test_functions_are_short_or_say_why_not() -> None:
    found = {
        f"{path.relative_to(ROOT)} {node.name}"
        for path in ROOT.rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) and code_of(node) > FUNCTION
    }
    assert found == set(LONG)


def test_one_name_means_one_thing() -> None:
    """No two classes are called alike; a glossary ties the words of the screen to those of the code."""
    names = [
        node.name
        for path in ROOT.rglob("*.py")
        for node in ast.parse(path.read_text()).body
        if isinstance(node, ast.ClassDef)
    ]
    assert len(names) > 300
    assert not {n for n in names if names.count(n) > 1}
