"""`python -m tests.truth MINUTES [SEED]`: new histories for so long; the last line says how many, and how many were wrong."""

from __future__ import annotations

import sys
import time

from tests.truth.search import search


def main() -> int:
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())
    ends = time.monotonic() + minutes * 60
    played, faults = 0, []
    while time.monotonic() < ends:
        found = search(seed, examples=200, ends=ends)
        played += found.played
        if found.problem:
            faults.append(seed)
            print(f"seed {seed}:\n{found.problem}\n", flush=True)
        seed += 1
    print(f"truth: {played} histories, {len(faults)} faults" + (f"; seeds {faults}" if faults else ""))
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
