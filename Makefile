# Everything sets itself up: a machine with Python 3.11 or newer, pip and make is enough.
PYTHON ?= python3
VENV ?= .venv
BIN = $(VENV)/bin
# Python compiles a module when it is first used: pip would spend half its time compiling those that never are.
INSTALL = $(BIN)/pip --disable-pip-version-check --quiet install --no-compile -c constraints.txt
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test test-long coverage fuzz bench scale lint develop judges troupe schemas gallery docs package constraints

demo: $(BIN)/python  ## run the full example on the demo troupe
	$(INSTALL) ".[speech,view]"
	$(BIN)/fairswap demo lantern-street --force

test: $(BIN)/python  ## run the tests, but for those that take long
	$(INSTALL) ".[test]"
	$(BIN)/python -m pytest -n 2

test-long: $(BIN)/python  ## run those that take long: many builds of a thing, the whole example, clusters, kills
	$(INSTALL) ".[test]"
	$(BIN)/python -m pytest -n 2 --long only

coverage: $(BIN)/python  ## all tests, counting branches (half as long again): under 92 % is an error
	$(INSTALL) -e ".[test]"
	$(BIN)/python -m pytest -n 2 --long with --cov --cov-fail-under=92 --cov-report=term:skip-covered

SECONDS ?= 60
fuzz: $(BIN)/python  ## mangle files for every reader, for SECONDS; goes on where it stopped, saves what breaks us in .fuzz
	$(INSTALL) ".[test]"
	cd tests && $(abspath $(BIN))/python -m fuzz --seconds $(SECONDS) --folder $(CURDIR)/.fuzz

bench: $(BIN)/python  ## measure speed, as ratios within one run
	$(INSTALL) ".[test]"
	$(BIN)/python bench/ratios.py

scale: $(BIN)/python  ## large inputs: seconds and peak memory of whole commands
	$(INSTALL) .
	$(BIN)/python bench/scale.py

lint: $(BIN)/python  ## linter, formatter, type checker, import contract
	$(INSTALL) ".[test,lint]"
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

develop: $(BIN)/python  ## an editable installation with all tools
	$(INSTALL) -e ".[test,lint]"

schemas: $(BIN)/python  ## write docs/reports.schema.json anew (needed after a report has changed)
	$(BIN)/python -m fairswap.cli.schemas > docs/reports.schema.json

gallery: $(BIN)/python  ## make docs/screenshots anew from the demo (needs chromium, xvfb, xterm, imagemagick)
	$(INSTALL) -e ".[test]"
	$(BIN)/python docs/gallery.py

constraints:  ## the newest version of every package, written to constraints.txt: run the tests before you believe it
	.ci/constraints

package:  ## build the wheel and the sdist, and try each in a fresh environment
	.ci/package

docs: $(BIN)/python  ## build the documentation site into docs-out, notebooks executed; a warning is an error
	$(INSTALL) ".[docs,view]"
	$(BIN)/python -m sphinx -b html -W --keep-going -q docs docs-out

judges:  ## the independent judges that some tests ask (needs Node)
	cd tests/judges && npm ci --no-audit --no-fund --silent

troupe: $(BIN)/python  ## sculpt the demo figures anew (they are shipped; only needed after changing them)
	$(INSTALL) -e ".[sculpt]"
	$(BIN)/python -m fairswap.demo.build

$(BIN)/python:
	$(PYTHON) -m venv $(VENV)
