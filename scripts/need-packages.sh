#!/bin/sh
# Installs the Debian packages named when they are missing and we are root; else says the one command to run.
set -eu
missing=
for package in "$@"; do
    dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'install ok installed' || missing="$missing $package"
done
[ -z "$missing" ] && exit 0
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
    apt-get update -qq
    # shellcheck disable=SC2086  # package names hold no blanks
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
else
    echo "These Debian packages are missing; run: sudo apt-get install -y --no-install-recommends$missing" >&2
    exit 1
fi
