#!/bin/sh
# Installs from Debian's packages what is missing: "server" is PostgreSQL, "browser" Chromium without windows,
# "judge" xmllint and xsltproc, with which results on XML are compared; "systems" the real servers
# against which connections are tested; "node" what assets are built and checked with, and the checker of accessibility, from the package registry.
set -eu
cd "$(dirname "$0")/.."

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

# Servers that only the tests start, by themselves: their packages must not start them.
installquiet() {
  [ "$(id -u)" = 0 ] && [ ! -e /usr/sbin/policy-rc.d ] && { printf '#!/bin/sh\nexit 101\n' > /usr/sbin/policy-rc.d; chmod +x /usr/sbin/policy-rc.d; trap 'rm -f /usr/sbin/policy-rc.d' EXIT; }
  install "$@"
}

case "$1" in
  server) ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || install postgresql ;;
  judge) command -v xmllint >/dev/null || install libxml2-utils; command -v xsltproc >/dev/null || install xsltproc ;;
  node) [ tools/node_modules/.package-lock.json -nt tools/package.json ] || { cd tools && npm install --no-audit --no-fund --silent && touch node_modules/.package-lock.json; } ;;
  systems) [ -x /usr/sbin/mariadbd ] || installquiet mariadb-server; [ -x /usr/sbin/slapd ] || installquiet slapd; [ -x /usr/lib/openssh/sftp-server ] || installquiet openssh-sftp-server; [ -x /usr/sbin/exim4 ] || installquiet exim4-daemon-light; [ -x /usr/sbin/dovecot ] || installquiet dovecot-imapd ;;
  browser) [ -x /usr/bin/chromium-headless-shell ] || install chromium-headless-shell ;;
esac
