"""How long a test waits: in seconds of a free machine. A busy one, or one that counts lines, is given more."""

import sys
import time
from contextlib import contextmanager

# What a free machine takes for the work below, seconds; and how much longer code takes whose lines are counted.
_FREE, _COUNTED = 0.06, 4.0


@contextmanager
def within(seconds):
    """What is done inside takes no longer than that."""
    start = time.process_time()
    yield
    took = time.process_time() - start
    assert took <= seconds or took <= seconds * slowness(), f"it took {took:.1f} s"


def slowness():
    """How many times as long as on a free machine things take here and now; 1 at least."""
    start = time.process_time()
    sum(number * number for number in range(1_000_000))
    busy = (time.process_time() - start) / _FREE
    return max(busy, 1.0) * (_COUNTED if sys.gettrace() or sys.getprofile() else 1.0)
