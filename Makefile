# Two commands do all: `make demo` and `make test`.
# Where this is set, each of the many processes of a test run would compile everything anew.
unexport PYTHONDONTWRITEBYTECODE
PYTHON ?= $(shell command -v python3.11 || command -v python3)
BIN := .venv/bin
CONSOLE := src/reedbasket/service/static/index.html
CONSOLE_SOURCES := $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/package.json console/vite.config.ts

.PHONY: setup console demo demo-postgres demo-mysql check test truth lint house bench bench-large shots clean

setup: .made/python

.made/python: pyproject.toml
	@mkdir -p .made
	@test -x $(BIN)/python || $(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[dev]'
	@touch $@

.made/node: console/package.json console/package-lock.json
	@mkdir -p .made
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

console: $(CONSOLE)

WIRE := $(wildcard src/reedbasket/wire/*.py)
$(WIRE) src/reedbasket/service/openapi.py: ;

console/src/lib/api-types.ts: .made/python $(WIRE) src/reedbasket/service/openapi.py console/make_types.py
	$(BIN)/python console/make_types.py

$(CONSOLE): .made/python .made/node console/src/lib/api-types.ts $(CONSOLE_SOURCES)
	cd console && npm run --silent build

demo: setup console
	@$(BIN)/reed demo $(DEMO)

demo-postgres: setup console
	@$(BIN)/reed demo --postgres $(DEMO)

demo-mysql: setup console
	@$(BIN)/reed demo --mysql $(DEMO)

lint: setup .made/node
	$(BIN)/ruff check src tests bench docs console
	$(BIN)/ruff format --check src tests bench docs console
	$(BIN)/mypy
	cd console && npm run --silent check

# For the inner loop: no server and no browser is started.
check: setup
	$(BIN)/ruff check src tests bench docs console
	$(BIN)/ruff format --check --quiet src tests bench docs console
	$(BIN)/mypy
	$(BIN)/python -m pytest --quick -n 4 --dist worksteal tests/core tests/store

test: setup console lint
	cd console && npm run --silent test
	$(BIN)/python -m pytest -n 4 --dist worksteal --cov=reedbasket.core --cov-report= --cov-fail-under=90

# How large the parts are, and what a stranger would stumble over; fails where a bound is passed.
house: setup
	$(BIN)/python -m tests.house

# New histories against made-up sources with faults, for so many minutes.
MINUTES ?= 60
truth: setup
	$(BIN)/python -m tests.truth $(MINUTES) $(SEED)

bench: setup
	$(BIN)/python -m bench --all

bench-large: setup
	$(BIN)/python -m bench pg-large --write
	$(BIN)/python -m bench feeds-300 --write
	$(BIN)/python -m bench large-store --write
	$(BIN)/python -m bench console-1000 --write

shots: setup console
	$(BIN)/python docs/take_screenshots.py

clean:
	rm -rf .venv .made console/node_modules src/reedbasket/service/static reed-data
