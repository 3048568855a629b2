#!/usr/bin/env bash
# Installs what is missing for a purpose: build, test, bench or screenshots. It asks nothing, and does nothing when all is there.
set -euo pipefail
cd "$(dirname "$0")/.."
purpose=${1:?usage: scripts/install.sh build|test|bench|screenshots}

need() { # need COMMAND PACKAGE: a program from Debian's packages
  command -v "$1" >/dev/null 2>&1 || missing+=("$2")
}

missing=()
need node nodejs
need npm npm
if [ "$purpose" = test ] || [ "$purpose" = screenshots ]; then
  need chromium chromium
  need curl curl
  need gcc gcc
  need git git
  need bzip2 bzip2
  need xz xz-utils
  need ssh openssh-client
  need psql postgresql-client
  need swtpm swtpm
  need jose jose
  need openssl openssl
  need certtool gnutls-bin
  need certbot certbot
  [ -x /usr/sbin/nginx ] || missing+=(nginx-light)
  need softhsm2-util softhsm2
  [ -x /usr/sbin/mkfs.ext4 ] || missing+=(e2fsprogs)
  [ -x /usr/sbin/sshd ] || missing+=(openssh-server)
  [ -x /usr/sbin/rsyslogd ] || missing+=(rsyslog)
  [ -e "$(find /usr/lib -name lmnsd_ossl.so 2>/dev/null | head -1)" ] || missing+=(rsyslog-openssl)
  [ -x /lib/systemd/systemd ] || missing+=(systemd)
  [ -e /usr/include/stdio.h ] || missing+=(libc6-dev)
fi
[ "$purpose" != bench ] || need wrk wrk
if [ "$purpose" = screenshots ]; then
  need Xvfb xvfb
  need xterm xterm
  need import imagemagick
  [ -e /usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf ] || missing+=(fonts-dejavu-core)
fi
if [ ${#missing[@]} -gt 0 ]; then
  echo "installing ${missing[*]}"
  sudo=()
  [ "$(id -u)" = 0 ] || sudo=(sudo)
  "${sudo[@]}" apt-get update -qq
  "${sudo[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi

if ! command -v go >/dev/null 2>&1; then
  echo "Go is missing: install the version that go.mod names, from your distribution or from go.dev" >&2
  exit 1
fi

if ! node -e 'const [major, minor] = process.versions.node.split(".").map(Number); process.exit(major > 20 || (major === 20 && minor >= 19) ? 0 : 1)'; then
  echo "Node.js $(node --version) is too old for the console's build: 20.19 or newer is needed" >&2
  exit 1
fi

# The stamp is newer than the lock file when what is installed is what is locked.
packages() { # packages DIRECTORY WHAT
  local stamp=$1/node_modules/.installed
  if [ ! -e "$stamp" ] || [ "$1/package-lock.json" -nt "$stamp" ]; then
    echo "installing the packages of $2"
    (cd "$1" && npm ci --no-fund --no-audit --loglevel=error)
    touch "$stamp"
  fi
}
packages console "the console"
if [ "$purpose" = test ]; then
  packages examples/generated/typescript "a client that is generated"
  (cd examples/generated/go && go mod download)
fi
