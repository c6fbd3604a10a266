"""``python -m fairswap``."""

from fairswap.cli.main import run

run()
