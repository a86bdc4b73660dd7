#!/bin/sh
# Write requirements.lock again from pyproject.toml: exact versions with hashes, no host names.
set -eu
cd "$(dirname "$0")/.."
.venv/bin/python -m pip install -q uv
.venv/bin/python -m uv pip compile -q --extra dev --generate-hashes --no-header --no-emit-index-url \
  --no-annotate -o requirements.lock pyproject.toml
