#!/bin/sh
# Pages of PDF and PostScript are drawn by Ghostscript; install it where it is missing and can be.
set -eu
command -v gs >/dev/null 2>&1 && exit 0
if ! command -v apt-get >/dev/null 2>&1; then
  echo "Ghostscript is missing: pictures print, pages of PDF and PostScript do not until it is installed." >&2
  exit 0
fi
echo "Ghostscript is missing; installing it from Debian's packages." >&2
if [ "$(id -u)" -eq 0 ]; then as_root=""; else as_root="sudo"; fi
if ! { $as_root apt-get update -qq && $as_root apt-get install -y -qq ghostscript >/dev/null; }; then
  echo "It could not be installed: pictures print, pages of PDF and PostScript do not until it is." >&2
fi
