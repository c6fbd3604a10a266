"""Mangle files for as long as wanted: ``python -m fuzz --seconds 60`` (in ``tests/``), or ``make fuzz SECONDS=60``.

It goes on where it stopped (``--seed`` begins anew). What breaks us is made as small as it can be, and saved.
"""

from __future__ import annotations

import argparse
import json
import os
import time
from pathlib import Path

from fuzz.judging import judged, smallest
from fuzz.readers import READERS


def main() -> int:
    options = argparse.ArgumentParser(prog="python -m fuzz", description=__doc__)
    options.add_argument("--seconds", type=float, default=60.0)
    options.add_argument("--cases", type=int, default=0, help="for each reader, instead of seconds")
    options.add_argument("--seed", type=int, default=1)
    options.add_argument("--folder", type=Path, default=Path(".fuzz"))
    given = options.parse_args()
    given.folder.mkdir(parents=True, exist_ok=True)
    os.chdir(given.folder)
    os.environ["FAIRSWAP_HOME"] = str(Path.cwd() / "home")
    state = Path("state.json")
    done = json.loads(state.read_text()) if state.exists() else {}
    ends = time.monotonic() + given.seconds
    found, begun = 0, time.monotonic()
    ran = dict.fromkeys([reader.name for reader in READERS], 0)
    while any(ran[name] < given.cases for name in ran) if given.cases else time.monotonic() < ends:
        for reader in READERS:
            key = f"{given.seed} {reader.name}"
            for number in range(done.get(key, 0), done.get(key, 0) + 50):
                content = reader.case(given.seed, number)
                broken = judged(reader, content)
                if broken:
                    found += 1
                    small = smallest(reader, content, broken)
                    name = f"{reader.name.replace(' ', '-')}-{given.seed}-{number}{reader.suffix}"
                    Path(name).write_bytes(small)
                    print(f"{name}: {broken}")
            done[key] = done.get(key, 0) + 50
            ran[reader.name] += 50
        state.write_text(json.dumps(done))
    counts = ", ".join(f"{name} {count}" for name, count in ran.items())
    print(f"{sum(ran.values())} files in {time.monotonic() - begun:.0f} s ({counts}): {found} broke us")
    return 1 if found else 0


raise SystemExit(main())
