#!/usr/bin/env bash
# All tests, two parts at a time and the longest first, so that two cores are done at about the same moment. Nothing is
# run a second time: those of the core, the engine and the formats run where Qt cannot be imported, and only the core's
# once more, interpreted. What a part says is told whole, at its end.
# Usage: packaging/tests.sh BIN
set -u
bin=$1
export QT_QPA_PLATFORM=offscreen

parity=tests/verification/test_parity.py
storm=tests/verification/test_storms.py
part() {
  case $1 in
    windows) "$bin/pytest" -q -o cache_dir=.pytest_cache/windows tests/desk ;;
    others)
      "$bin/pytest" -q -o cache_dir=.pytest_cache/others --ignore tests/desk --ignore $parity --ignore $storm \
        --ignore tests/core --ignore tests/engine --ignore tests/formats
      ;;
    storms) "$bin/pytest" -q -o cache_dir=.pytest_cache/storms $storm ;;
    core) "$bin/python" tests/without_qt.py ;;
    parity) "$bin/pytest" -q -o cache_dir=.pytest_cache/parity $parity ;;
    interpreted) NUMBA_DISABLE_JIT=1 "$bin/pytest" -q tests/core -p no:pytest-qt -p no:cacheprovider ;;
  esac
}

if [ $# -gt 1 ]; then
  told=$(part "$2" 2>&1)
  failed=$?
  printf '== %s\n%s\n' "$2" "$told"
  exit $failed
fi
printf '%s\n' windows others storms parity core interpreted | xargs -P 2 -I{} "$0" "$bin" {}
