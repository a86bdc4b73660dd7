#!/bin/sh
# Write requirements.lock again from pyproject.toml: exact versions with hashes, no host names.
set -eu
cd "$(dirname "$0")/.."
.venv/bin/python -m pip install -q uv
.venv/bin/python -m uv pip compile -q --extra dev --generate-hashes --no-header --no-emit-index-url \
  --no-annotate -o requirements.lock pyproject.toml
# what an installation has, developers' tools left out, is listed for whoever audits it
shipped=$(mktemp)
.venv/bin/python -m uv pip compile -q --extra cluster --no-header --no-emit-index-url --no-annotate \
  -c requirements.lock -o "$shipped" pyproject.toml
.venv/bin/python -m pip install -q cyclonedx-bom
.venv/bin/python scripts/sbom.py "$shipped"
rm -f "$shipped"
sed -i "1i # locked $(date +%Y-%m-%d)" requirements.lock
