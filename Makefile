# Everything a fresh clone needs. See README.md.
PORT ?= 8000
PYTHON ?= python3
BIN := .venv/bin
STAMP := .venv/.ready

.PHONY: setup demo test lint bench screenshots

setup: $(STAMP)

$(STAMP): requirements.lock pyproject.toml
	@test -x $(BIN)/python || $(PYTHON) -m venv .venv
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	@touch $(STAMP)

demo: setup
	@exec $(BIN)/greyanchor demo --port $(PORT)

test: setup
	@sh scripts/ensure_chromium.sh
	@$(BIN)/pytest

lint: setup
	@$(BIN)/ruff check .
	@$(BIN)/ruff format --check .
	@$(BIN)/lint-imports
	@$(BIN)/mypy
	@$(BIN)/python manage.py makemigrations --check --dry-run

bench: setup
	@$(BIN)/python -m benchmarks.run

screenshots: setup
	@sh scripts/ensure_chromium.sh
	@$(BIN)/python scripts/screenshots.py
