"""Pages name all of their scripts at their top, so that none is asked for one after the other."""

import re

from tanner.web.screens.modules import SCRIPTS, module, named_by, with_all


def test_every_module_is_found_with_all_that_it_names() -> None:
    for path in SCRIPTS.rglob("*.js"):
        text = path.read_text()
        named = list(named_by(path.relative_to(SCRIPTS).as_posix()))
        assert all((SCRIPTS / name).exists() for name in named), path
        # Each line that names a module is one that was found.
        assert len(named) == len(re.findall(r'(?:from|import|export) "\.', text)), path
    assert "dom.js" in with_all("sheet.js") and with_all("sheet.js")[0] == "sheet.js"
    assert "dom.js" not in module("sheet.js"), "what every page loads is named once"
