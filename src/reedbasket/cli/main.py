"""`reed`: its commands and exit codes.

0 done · 1 the run, or the request, failed · 2 the command was not written correctly · 3 no service answers, or it does not accept the
token · 4 there is no such thing · 5 the definitions have mistakes · 6 not possible in the present state · 130 stopped with Ctrl-C
"""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable, Sequence

from ..client import ServiceProblem, ServiceUnreachable
from . import arguments
from .complaints import complain, complain_of
from .terminal import Terminal

Command = Callable[[argparse.Namespace], int]


def main(given: Sequence[str] | None = None) -> int:
    """Execute a command, and return its exit code.

    Args:
        given: used instead of the process's own arguments.
    """
    for name in ("stdout", "stderr"):
        if getattr(sys, name).isatty():
            setattr(sys, name, Terminal(getattr(sys, name)))
    parser = arguments.build()
    options = parser.parse_args(given)
    try:
        return int(options.command(options))
    except ServiceUnreachable as error:
        complain_of(str(error), "service.unreachable")
        return 3
    except ServiceProblem as problem:
        return _refused(problem)
    except KeyboardInterrupt:
        return 130
    except BrokenPipeError:
        # Whoever reads us has seen enough (`reed log 1 | head`); nothing is left to say to them.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except Exception as error:
        # Starting the service or reading a folder raises core errors; importing their class costs every command 20 ms.
        code = getattr(error, "code", None)
        if not isinstance(code, str):
            raise
        complain(error)
        return 5 if code.startswith("definition.") else 1


def _refused(problem: ServiceProblem) -> int:
    complain_of(str(problem), problem.code, problem.details)
    if problem.code.startswith("definition.") and problem.status == 422:
        return 5
    return {401: 3, 403: 3, 404: 4, 409: 6}.get(problem.status, 1)


if __name__ == "__main__":
    sys.exit(main())
