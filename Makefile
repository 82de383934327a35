.PHONY: demo test bench slow screenshots setup
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

slow:                ## rates by simulation and attacks at full size (hours)
	@scripts/setup.sh dev
	$(PY) -m pytest -m slow -n 2 --dist worksteal -rP --durations=30

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
