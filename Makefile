.PHONY: demo test bench slow slow-rates slow-attacks slow-screens screenshots setup
PY = .venv/bin/python

setup:
	@scripts/setup.sh

demo: setup          ## start the program with the demo study
	.venv/bin/anchor-tally --demo

test:                ## every check; pytest's closing line comes last
	@scripts/setup.sh dev
	.venv/bin/ruff check .
	.venv/bin/ruff format --check .
	.venv/bin/mypy
	.venv/bin/lint-imports
	$(PY) -m pytest -n 2 --dist worksteal

slow: slow-rates slow-attacks slow-screens   ## all slow tests, in this order (hours)

SLOW = $(PY) -m pytest -m slow -n 2 --dist worksteal -rP --durations=30

slow-rates:          ## rates of what sentences say, by simulation
	@scripts/setup.sh dev
	$(SLOW) tests/core

slow-attacks:        ## kills, hostile files and random studies at full size
	@scripts/setup.sh dev
	$(SLOW) tests/campaigns tests/files

slow-screens:        ## long walks through the window
	@scripts/setup.sh dev
	$(SLOW) tests/ui

bench:               ## speed beside a reference in the same run
	@scripts/setup.sh dev
	$(PY) benchmarks/components.py
	$(PY) benchmarks/pair_slopes.py
	$(PY) benchmarks/start.py
	$(PY) benchmarks/heartbeat.py
	$(PY) benchmarks/importing.py
	$(PY) benchmarks/exporting.py
	$(PY) benchmarks/board.py
	$(PY) benchmarks/planning.py
	$(PY) benchmarks/best_estimate.py

screenshots: setup
	$(PY) scripts/screenshots.py
