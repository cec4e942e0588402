# Everything that can be done here; `make demo` and `make test` set up what they need.
VENV := .venv
BIN := $(VENV)/bin
# Tests start many processes: each reads what the first has compiled.
export PYTHONDONTWRITEBYTECODE :=
READY := $(VENV)/.ready

.PHONY: demo demo-headless test tests-in-parts told check lint types contracts bench bench-sensing bench-identify \
  bench-foreign bench-kernel bench-loops bench-silence bench-commissioning \
  bench-coverage bench-swept bench-own bench-links bench-rehearse bench-short faults screenshots lock clean

demo: $(READY)
	@$(BIN)/oarlock demo

demo-headless: $(READY)
	@$(BIN)/oarlock demo --headless --out demo-out

# Tests write many small files: in memory, where there is room and nobody chose another folder.
QUICK = $(or $(TMPDIR),$(shell sh tools/quick-folder),/tmp)

# Three at a time, each a fork of a process that has loaded what they need: below `tests.forks` only.
PYTEST = $(BIN)/python -m pytest --dist worksteal \
  --tx "3*popen//python=$(BIN)/python -m tests.forks --python"

# What runs in real time goes by itself; whatever a machine that stood still made fail is tried again.
test: export TMPDIR := $(QUICK)
test: $(READY)
	@$(BIN)/python -m oarlock.warm
	@QT_QPA_PLATFORM=offscreen $(BIN)/python -m tests.forks $(MAKE) --no-print-directory tests-in-parts

tests-in-parts:
	@$(PYTEST) -m "not realtime" --durations=8
	@$(PYTEST) -o addopts="-q --strict-markers --reruns 2" -m realtime --durations=12 \
	  $$(grep -rl realtime tests --include='*.py')

check: lint types contracts

lint: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .

types: $(READY)
	$(BIN)/mypy

contracts: $(READY)
	$(BIN)/lint-imports

bench: $(READY)
	@QT_QPA_PLATFORM=offscreen $(BIN)/python -m benchmarks

bench-sensing: $(READY)
	@QT_QPA_PLATFORM=offscreen $(BIN)/python -m benchmarks.sensing

bench-identify: $(READY)
	@QT_QPA_PLATFORM=offscreen $(BIN)/python -m benchmarks.identify

bench-foreign: $(READY)
	@$(BIN)/python -m benchmarks.foreign

bench-kernel: $(READY)
	@$(BIN)/python -m benchmarks.kernel

bench-loops: $(READY)
	@$(BIN)/python -m benchmarks.loops

bench-silence: $(READY)
	@$(BIN)/python -m benchmarks.silence

bench-commissioning: $(READY)
	@$(BIN)/python -m benchmarks.commissioning

bench-coverage: $(READY)
	@$(BIN)/python -m benchmarks.coverage

bench-swept: $(READY)
	@$(BIN)/python -m benchmarks.swept

bench-own: $(READY)
	@$(BIN)/python -m benchmarks.own 40
	@$(BIN)/python -m benchmarks.own_window

bench-links: $(READY)
	@$(BIN)/python -m benchmarks.links

bench-rehearse: $(READY)
	@$(BIN)/python -m benchmarks.rehearse

bench-short: $(READY)
	@QT_QPA_PLATFORM=offscreen $(BIN)/python -m benchmarks.short

faults: $(READY)
	@$(BIN)/python tools/faults.py

told: $(READY)
	@QT_QPA_PLATFORM=offscreen $(BIN)/python -m tests.experiments.telling
	@QT_QPA_PLATFORM=offscreen $(BIN)/python -m tests.views.telling

screenshots: $(READY)
	@QT_QPA_PLATFORM=offscreen $(BIN)/python tools/screenshots.py docs/screenshots

lock: $(READY)
	$(BIN)/python -m pip install -q uv
	$(BIN)/uv pip compile pyproject.toml --extra dev --universal --python-version 3.11 \
	  --no-header --no-annotate -o requirements.lock

clean:
	rm -rf $(VENV) demo-out .mypy_cache .ruff_cache .pytest_cache

$(READY): requirements.lock pyproject.toml tools/set-up
	@sh tools/set-up $(VENV)
	@touch $@
