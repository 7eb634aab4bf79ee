#!/usr/bin/env bash
# Runs lint beside the tests, which leave a core idle now and then. The tests' sum is the last line, also when lint has failed.
set -euo pipefail
cd "$(dirname "$0")/.."

# each of some hundred processes would compile what it imports, where the environment forbids it to keep that
.venv/bin/python -m compileall -q src tests
found=$(mktemp -d)
trap 'rm -rf "$found"' EXIT
make --no-print-directory lint > "$found/lint" 2>&1 &
lint=$!
tested=0
.venv/bin/python -m tests | tee "$found/tests" || tested=$?
if ! wait "$lint"; then
  printf '\n✗ make lint\n'
  cat "$found/lint"
  tail -n 1 "$found/tests"
  exit 1
fi
exit "$tested"
