#!/usr/bin/env bash
# All tests, in two rows beside each other, so that two cores have as much to do. Nothing is run a second time: those of
# the core, the engine and the formats run where Qt cannot be imported, and only the core's once more, interpreted.
# Usage: packaging/tests.sh BIN
set -u
bin=$1
export QT_QPA_PLATFORM=offscreen

parity=tests/service/test_parity.py
storm=tests/test_storms.py
windows() { "$bin/pytest" -q -o cache_dir=.pytest_cache/windows tests/desk $parity; }
core() { "$bin/python" tests/without_qt.py; }
storms() { "$bin/pytest" -q -o cache_dir=.pytest_cache/storms $storm; }
interpreted() { NUMBA_DISABLE_JIT=1 "$bin/pytest" -q tests/core -p no:pytest-qt -p no:cacheprovider; }
others() {
  "$bin/pytest" -q -o cache_dir=.pytest_cache/others --ignore tests/desk --ignore $parity --ignore $storm \
    --ignore tests/core --ignore tests/engine --ignore tests/formats
}

told=$(mktemp)
trap 'rm -f "$told"' EXIT
{
  failed=0
  core || failed=1
  others || failed=1
  exit $failed
} >"$told" 2>&1 &
beside=$!
failed=0
windows || failed=1
storms || failed=1
interpreted || failed=1
wait "$beside" || failed=1
cat "$told"
exit "$failed"
