"""``python -m ask_above``."""

from ask_above.cli.main import run

run()
