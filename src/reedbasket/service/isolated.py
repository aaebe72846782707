"""What may take forever, or all memory, is done in a separate process that is killed when its time is over."""

from __future__ import annotations

import errno
import os
import resource
import threading
from collections.abc import Callable
from contextlib import suppress
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, Concatenate, ParamSpec, TypeVar

from ..core import outgoing
from ..core.errors import ReedError
from ..store import Store
from . import forks
from .inspection_pool import InspectionEnded
from .reach import Reach

_GIVEN = ParamSpec("_GIVEN")
_FOUND = TypeVar("_FOUND")
_MEND = "ask for less: a narrower query, or fewer definitions at once"
_PAGE = os.sysconf("SC_PAGE_SIZE")


class TookTooLong(ReedError):
    """A call that took longer than it may."""

    code = "service.took_too_long"


class IsolatedCalls:
    """Calls in separate processes.

    Args:
        most: how many at once; others wait.
    """

    def __init__(self, store: Store, most: int) -> None:
        self._store = store
        self.reach = Reach()
        self._free = threading.BoundedSemaphore(most)

    def ask(
        self,
        seconds: float,
        megabytes: int | None,
        look: Callable[Concatenate[Store, _GIVEN], _FOUND],
        *given: _GIVEN.args,
        **named: _GIVEN.kwargs,
    ) -> _FOUND:
        """What the look finds; what it raises is raised here.

        Args:
            seconds: after which its process is ended.
            megabytes: that it may come to hold beside what it begins with; None for any.
            look: a function of a module, given the store and plain values.

        Raises:
            TookTooLong: its time, or its memory, is over.
            InspectionEnded: its process was ended by somebody else.
        """
        with self._free:
            ours, theirs = forks.context().Pipe(duplex=False)
            process = forks.context().Process(
                target=_do, args=(theirs, self._store.folder, self.reach, megabytes, look, given, named), daemon=True
            )
            process.start()
            theirs.close()
            try:
                if not ours.poll(seconds):
                    raise TookTooLong("answering", found=f"it took more than {seconds:g} s", fix=_MEND)
                fine, found = ours.recv()
            except EOFError:
                raise InspectionEnded("answering", found="its process was ended before it was done", fix="try again") from None
            finally:
                process.kill()
                process.join()
                ours.close()
        if not fine:
            raise found
        answer: _FOUND = found
        return answer


# In the process


def _do(
    answer: Connection,
    folder: Path,
    reach: Reach,
    megabytes: int | None,
    look: Callable[..., Any],
    given: tuple[Any, ...],
    named: dict[str, Any],
) -> None:
    forks.end_with_service()
    store = Store(folder, reach.folders)
    outgoing.install(reach.outgoing)
    if megabytes is not None:
        held = int(Path("/proc/self/statm").read_text().split()[0]) * _PAGE
        resource.setrlimit(resource.RLIMIT_AS, (held + megabytes * 1024 * 1024,) * 2)
    try:
        found = (True, look(store, *given, **named))
    except MemoryError:
        found = (False, _too_large(megabytes))
    except BaseException as error:
        # A thread that cannot be begun, a map that cannot be made.
        short = isinstance(error, OSError) and error.errno == errno.ENOMEM
        found = (False, _too_large(megabytes) if short else error)
    with suppress(BrokenPipeError):  # nobody waits any more
        answer.send(found)


def _too_large(megabytes: int | None) -> TookTooLong:
    return TookTooLong("answering", found=f"it needs more than {megabytes} MB of memory", fix=_MEND)
