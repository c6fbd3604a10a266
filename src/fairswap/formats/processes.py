"""Ending other processes that work for us, whatever state they are in."""

from __future__ import annotations

import contextlib
import threading
from typing import Any

# A worker that was killed while it held a lock may keep its executor waiting for ever.
_WAIT_S = 10.0


def end_at_once(executor: Any) -> None:
    """Kill the workers of an executor, and wait for its end, but not for ever."""

    def end() -> None:
        with contextlib.suppress(Exception):  # it may be gone in any state
            executor.shutdown(wait=True, kill_workers=True)

    waiting = threading.Thread(target=end, daemon=True, name="fairswap-end")
    waiting.start()
    waiting.join(_WAIT_S)
