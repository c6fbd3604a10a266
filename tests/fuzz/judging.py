"""What a reader may do with a bad file: read it, or refuse it with one clear error; in little time and memory."""

from __future__ import annotations

import resource
import time
from pathlib import Path

import fairswap
from fuzz.readers import Reader
from patience import slowness

SECONDS, MIB = 2.0, 400


def judged(reader: Reader, content: bytes) -> str:
    """What is wrong with how a reader takes a file; empty if nothing is."""
    path = Path(f"bad{reader.suffix}")
    path.write_bytes(content)
    start, before = time.process_time(), _peak_mib()
    problem = ""
    try:
        reader.use(path)
    except fairswap.FairSwapError as error:
        said = str(error)
        if len(said) > 400:
            problem = f"a message of {len(said)} letters"
        elif not said.split(": ", 1)[-1].strip():
            problem = "a message that says nothing"
    except Exception as error:  # whatever it is, it is what we look for
        problem = f"{type(error).__name__}: {str(error)[:120]}"
    seconds, more = time.process_time() - start, _peak_mib() - before
    if not problem and seconds > SECONDS and seconds > SECONDS * slowness():
        problem = f"it took {seconds:.1f} s"
    if not problem and more > MIB:
        problem = f"it took {more:.0f} MiB"
    return problem


def smallest(reader: Reader, content: bytes, broken: str) -> bytes:
    """A smaller file with the same problem: pieces are left out for as long as it stays."""
    kind = broken.split(":")[0]
    step = len(content) // 2
    tries = 400
    while step >= 1 and tries > 0:
        at = 0
        while at < len(content) and tries > 0:
            less = content[:at] + content[at + step :]
            tries -= 1
            if less and judged(reader, less).split(":")[0] == kind:
                content = less
            else:
                at += step
        step //= 2
    return content


def _peak_mib() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
