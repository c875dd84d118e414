# Every target does its own set-up: `make demo` and `make test` work on a fresh machine.
VENV ?= .venv
PY := $(VENV)/bin/python
STAMP := $(VENV)/.ready

.PHONY: setup demo test branches lint bench fuzz screenshots lock

setup: $(STAMP)

$(STAMP): requirements.lock pyproject.toml tools/setup.sh
	@sh tools/setup.sh $(VENV)
	@touch $(STAMP)

demo: $(STAMP)
	@if [ -n "$$DISPLAY$$WAYLAND_DISPLAY" ]; then $(VENV)/bin/needlewright demo; \
	else rm -rf build/demo && $(VENV)/bin/needlewright demo --headless build/demo; fi

lint: $(STAMP)
	@$(PY) -m ruff check src tests benchmarks tools
	@$(PY) -m mypy

# Kernels are compiled while lint and types are looked at: tests would all do it at once.
test: $(STAMP)
	@$(PY) -c "from needlewright.core.warming import warm; warm()" & \
	$(MAKE) --no-print-directory lint; status=$$?; wait; exit $$status
	@QT_QPA_PLATFORM=offscreen $(PY) tools/run_tests.py

branches: $(STAMP)
	@rm -rf build/branches
	@QT_QPA_PLATFORM=offscreen $(PY) tools/run_tests.py --branches

fuzz: $(STAMP)
	@$(PY) -m tests.fuzz
	@$(PY) -m tests.fuzz_shelves
	@NEEDLEWRIGHT_EXAMPLES=large QT_QPA_PLATFORM=offscreen $(PY) tools/run_tests.py --drawn

bench: $(STAMP)
	@$(PY) -m benchmarks
	@$(PY) -m benchmarks.splices
	@$(PY) -m benchmarks.window
	@$(PY) -m benchmarks.planner
	@$(PY) -m benchmarks.copying
	@$(PY) -m benchmarks.delivering

screenshots: $(STAMP)
	@QT_QPA_PLATFORM=offscreen $(PY) tools/screenshots.py docs/screenshots

lock: $(STAMP)
	@$(PY) -m piptools compile --quiet --extra dev --extra demo --generate-hashes --no-emit-index-url \
	  --no-emit-find-links --no-header --strip-extras --allow-unsafe -o requirements.lock pyproject.toml
