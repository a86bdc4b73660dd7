#!/bin/sh
# The browser tests drive Debian's Chromium; install it where it is missing.
set -eu
[ -x /usr/bin/chromium ] && exit 0
echo "Chromium is missing; installing it from Debian's packages." >&2
if [ "$(id -u)" -eq 0 ]; then as_root=""; else as_root="sudo"; fi
$as_root apt-get update -qq
$as_root apt-get install -y -qq chromium >/dev/null
