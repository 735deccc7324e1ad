#!/usr/bin/env bash
# All tests: those of real windows, of parity, of the core interpreted and without Qt, beside all others, so that two
# cores have as much to do. Nothing is run a second time.
# Usage: packaging/tests.sh BIN
set -u
bin=$1
export QT_QPA_PLATFORM=offscreen

parity=tests/service/test_parity.py
windows() { "$bin/pytest" -q -o cache_dir=.pytest_cache/windows tests/desk $parity; }
others() { "$bin/pytest" -q -o cache_dir=.pytest_cache/others --ignore tests/desk --ignore $parity; }
bare() { "$bin/python" tests/without_qt.py && NUMBA_DISABLE_JIT=1 "$bin/pytest" -q tests/core -p no:pytest-qt; }

told=$(mktemp)
trap 'rm -f "$told"' EXIT
others >"$told" 2>&1 &
beside=$!
failed=0
windows || failed=1
bare || failed=1
wait "$beside" || failed=1
cat "$told"
exit "$failed"
