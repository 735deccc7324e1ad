#!/usr/bin/env bash
# All tests: those of real windows, of parity, of the core interpreted and without Qt, beside all others, so that two
# cores have as much to do. Each half tells its result; where one failed on a loaded machine, what failed in it is run
# once more, alone, and must pass then.
# Usage: packaging/tests.sh BIN
set -u
bin=$1
export QT_QPA_PLATFORM=offscreen
again=(--last-failed --last-failed-no-failures none)

parity=tests/service/test_parity.py
windows() { "$bin/pytest" -q -o cache_dir=.pytest_cache/windows tests/desk $parity "$@"; }
others() { "$bin/pytest" -q -o cache_dir=.pytest_cache/others --ignore tests/desk --ignore $parity "$@"; }
bare() { "$bin/python" tests/without_qt.py && NUMBA_DISABLE_JIT=1 "$bin/pytest" -q tests/core -p no:pytest-qt; }

told=$(mktemp)
trap 'rm -f "$told"' EXIT
others >"$told" 2>&1 &
beside=$!
windows
of_windows=$?
bare
of_bare=$?
wait "$beside"
of_others=$?
cat "$told"
[ "$of_windows" -eq 0 ] || windows "${again[@]}" || exit 1
[ "$of_others" -eq 0 ] || others "${again[@]}" || exit 1
exit "$of_bare"
