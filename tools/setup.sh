#!/bin/sh
# Installs from Debian's packages what is missing: "server" is PostgreSQL, "browser" Chromium,
# "judge" xmllint and xsltproc, with which results on XML are compared; "axe" the checker of
# accessibility, from the package registry.
set -eu

install() {
  echo "Installing $* from Debian's packages"
  sudo=""
  if [ "$(id -u)" != 0 ]; then
    command -v sudo >/dev/null || { echo "Please install as root: apt-get install $*" >&2; exit 1; }
    sudo=sudo
  fi
  $sudo apt-get update -qq
  $sudo env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null
}

case "$1" in
  server) ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || install postgresql ;;
  judge) command -v xmllint >/dev/null || install libxml2-utils; command -v xsltproc >/dev/null || install xsltproc ;;
  axe) [ -f tools/node_modules/axe-core/axe.min.js ] || (cd tools && npm install --no-audit --no-fund --silent) ;;
  browser) [ -x /usr/bin/chromium ] || install chromium ;;
esac
