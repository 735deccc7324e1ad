# Hawser. `make demo` and `make test` set up all they need; see README.md.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
INSTALLED := $(VENV)/.installed
READY := $(VENV)/.ready

.PHONY: demo install uninstall test checks shots bench lock clean

$(INSTALLED): requirements.lock pyproject.toml
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || \
	  { echo "Hawser needs Python 3.11 or newer; $(PYTHON) is older. Try: make PYTHON=python3.11" >&2; exit 1; }
	@$(PYTHON) -c 'import venv, ensurepip' 2>/dev/null || \
	  { echo "Python's venv module is missing. Install it with: sudo apt-get install python3-venv" >&2; exit 1; }
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	$(BIN)/python -m compileall -q src/hawser
	@touch $@

$(READY): $(INSTALLED)
	$(BIN)/python -m hawser.warm
	@touch $@

demo: $(READY)
	@packaging/system.sh $(BIN)/python
	@$(BIN)/hawser --demo

install: $(READY)
	@packaging/system.sh $(BIN)/python
	@$(BIN)/python packaging/install.py $(if $(PREFIX),--prefix "$(PREFIX)")

uninstall: $(INSTALLED)
	@$(BIN)/python packaging/install.py --remove $(if $(PREFIX),--prefix "$(PREFIX)")

test: $(INSTALLED)
	@packaging/system.sh $(BIN)/python xvfb
	@$(MAKE) --no-print-directory -j2 $(READY) checks  # the rules are compiled while the source is checked
	@packaging/tests.sh $(BIN)

checks: $(INSTALLED)
	$(BIN)/ruff check src tests benchmarks packaging
	$(BIN)/ruff format --check src tests benchmarks packaging
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache

shots: $(READY)
	@packaging/system.sh $(BIN)/python
	$(BIN)/python -m hawser.desk.app.shots docs/screenshots

bench: $(READY)
	@packaging/system.sh $(BIN)/python xvfb
	@failed=0; for script in benchmarks/bench_*.py; do echo "== $$script"; $(BIN)/python $$script || failed=1; done; \
	  exit $$failed

lock:
	$(PYTHON) -m venv build/lock
	build/lock/bin/pip install --quiet pip-tools
	build/lock/bin/pip-compile --quiet --allow-unsafe --generate-hashes --no-emit-index-url --no-annotate --no-header \
	  --strip-extras -o requirements.lock requirements.in

clean:
	rm -rf $(VENV) build .mypy_cache .ruff_cache .pytest_cache
