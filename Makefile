# Everything a fresh clone needs. See README.md.
PORT ?= 8000
PYTHON ?= python3
BIN := .venv/bin
STAMP := .venv/.ready
ASSETS := node_modules/.package-lock.json

.PHONY: setup demo test lint format bench screenshots

# without npm everything else is linted and tested all the same
BIOME := $(if $(shell command -v npm),$(ASSETS))

setup: $(STAMP)

$(STAMP): requirements.lock pyproject.toml
	@test -x $(BIN)/python || $(PYTHON) -m venv .venv
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	@sh scripts/ensure_ghostscript.sh
	@$(BIN)/python -m greyanchor.core.separation.warm
	@touch $(STAMP)

$(ASSETS): package.json package-lock.json
	@npm ci --ignore-scripts --no-audit --no-fund --silent
	@touch $(ASSETS)

demo: setup
	@exec $(BIN)/greyanchor demo --port $(PORT)

test: setup $(BIOME)
	@sh scripts/ensure_chromium.sh
	@sh scripts/ensure_servers.sh
	@$(BIN)/pytest

lint: setup $(BIOME)
	@$(BIN)/ruff check .
	@$(BIN)/ruff format --check .
	@$(BIN)/lint-imports
	@$(BIN)/mypy
	@$(BIN)/djlint greyanchor --lint --quiet
	@$(if $(BIOME),node_modules/.bin/biome ci --error-on-warnings greyanchor/web/static tests/scripts,\
		echo "npm is not here: scripts and styles are not linted")
	@$(BIN)/python scripts/check_words.py
	@$(BIN)/python manage.py makemigrations --check --dry-run

format: setup $(ASSETS)
	@$(BIN)/ruff check --fix .
	@$(BIN)/ruff format .
	@node_modules/.bin/biome check --write greyanchor/web/static tests/scripts

bench: setup
	@GREYANCHOR_LOG_LEVEL=WARNING $(BIN)/python -m benchmarks.run

screenshots: setup
	@sh scripts/ensure_chromium.sh
	@$(BIN)/python scripts/screenshots.py
