#!/bin/sh
# Servers that tests/servers need: other makers' printers and clients of the Internet Printing Protocol, a
# database server, a queue and a proxy; installed where they are missing and can be. Without them those tests
# are skipped and say so.
set -eu
missing=""
command -v ipptool >/dev/null 2>&1 || missing="$missing cups-ipp-utils"
command -v dbus-daemon >/dev/null 2>&1 || missing="$missing dbus"
command -v avahi-daemon >/dev/null 2>&1 || missing="$missing avahi-daemon"
[ -n "$(find /usr/lib/postgresql -name initdb 2>/dev/null)" ] || missing="$missing postgresql"
command -v redis-server >/dev/null 2>&1 || missing="$missing redis-server"
command -v nginx >/dev/null 2>&1 || [ -x /usr/sbin/nginx ] || missing="$missing nginx-light"
command -v ip >/dev/null 2>&1 || missing="$missing iproute2"
command -v openssl >/dev/null 2>&1 || missing="$missing openssl"
[ -z "$missing" ] && exit 0
command -v apt-get >/dev/null 2>&1 || exit 0
echo "Installing$missing from Debian's packages, for the tests with servers." >&2
if [ "$(id -u)" -eq 0 ]; then as_root=""; else as_root="sudo"; fi
install="$as_root apt-get install -y -qq --no-install-recommends $missing"
$install >/dev/null 2>&1 || { $as_root apt-get update -qq && $install >/dev/null; } ||
  echo "They could not be installed: those tests are skipped." >&2
