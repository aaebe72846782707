"""`python -m tests.truth MINUTES [SEED]`: new histories for so long; the last line says how many, and how many were wrong."""

from __future__ import annotations

import sys
import time
from collections import Counter

from tests.truth.search import SOURCES, Servers, search

# HTTP has the most faults, and the quickest histories.
TURNS = ("http", "postgres", "http", "files", "http", "mariadb", "http", "sqlite")


def main() -> int:
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())
    ends = time.monotonic() + minutes * 60
    played, faults = Counter[str](), []
    servers = Servers()
    try:
        while time.monotonic() < ends:
            source = TURNS[seed % len(TURNS)]
            found = search(seed, servers, examples=40, sources=[source], ends=ends, kills=seed % 3 == 0)
            played[source] += found.played
            if found.problem:
                faults.append(seed)
                print(f"seed {seed}, {source}:\n{found.problem}\n", flush=True)
            seed += 1
    finally:
        servers.close()
    print(", ".join(f"{played[source]} {source}" for source in SOURCES))
    print(f"truth: {played.total()} histories, {len(faults)} faults" + (f"; seeds {faults}" if faults else ""))
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
