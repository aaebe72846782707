"""Every error of Reed Basket: facts first, text only when it leaves.

ReedError
├── DefinitionError        definition.*   a basket does not read as it must
├── SecretMissing          secret.missing
├── SourceError            source.*       the other side, or the way there
│   ├── SourceUnreachable  source.unreachable     (retryable)
│   ├── SourceTimedOut     source.timed_out       (retryable)
│   ├── SourceRefused      source.refused         it does not know who is asking
│   ├── SourceForbidden    source.no_right        it knows, and does not let them read this
│   ├── SourceBusy         source.busy            (retryable, says how long to wait)
│   ├── SourceFailed       source.failed          (retryable)
│   ├── BodyCutOff         source.body_cut_off    (retryable)
│   ├── BodyUnreadable     source.body_unreadable  (retryable: often a proxy's error page)
│   ├── BodyTooLarge       source.body_too_large
│   ├── RecordsNotFound    source.records_not_found
│   ├── PagesLooped        source.pages_looped
│   ├── Incomplete         source.incomplete      it says itself that there is more, or that something went wrong
│   ├── PagesMoved         source.pages_moved     the list changed while its pages were read
│   ├── FieldNotFound      source.field_not_found  the key or cursor field is in no record
│   ├── ForeignPage        source.foreign_page
│   ├── SignInFailed       source.sign_in_failed  no token was to be had
│   ├── SignInNeeded       source.sign_in_needed  a person has to sign in, in the console
│   ├── SourceResting      source.cooling_down         after repeated failures
│   └── QuotaUsed          source.quota_used
├── WarehouseError         warehouse.*
│   ├── WarehouseBusy      warehouse.busy
│   ├── TableNotOurs       warehouse.table_not_ours
│   ├── CursorMoved        warehouse.cursor_moved
│   ├── ConnectionLost     warehouse.connection_lost (retryable)
│   └── QueryRefused       warehouse.query_refused
├── DriftStopped           drift.stopped
├── NotReconciled          run.not_reconciled
├── TooManyRejects         run.too_many_rejects
├── TooManyRemoved         run.too_many_removed
├── RunCancelled           run.cancelled
├── RunWoundUp             run.shut_down           committed as far as it had got, to go on later (retryable)
├── NotFound               *.not_found
└── Conflict               the thing is in a state that forbids this; the code says which

A class carries a stable `code`; some families give a more exact code per case. Errors survive pickling, since workers are
processes, and hold no secret: whoever raises one masks first.
"""

from __future__ import annotations

from typing import Any


class ReedError(Exception):
    """One thing that went wrong, as facts.

    doing: what was being done. on: to what. found: what was met. fix: what would put it right.
    retryable: the same call may succeed later. wait_seconds: how long the other side asked us to wait, if it did.
    """

    code = "reed.error"
    retryable = False

    def __init__(
        self,
        doing: str,
        on: str = "",
        *,
        found: str = "",
        fix: str = "",
        code: str | None = None,
        wait_seconds: float | None = None,
        details: Any = None,
    ) -> None:
        super().__init__(doing, on, found, fix)
        self.doing = doing
        self.on = on
        self.found = found
        self.fix = fix
        self.wait_seconds = wait_seconds
        self.details = details
        if code is not None:
            self.code = code

    def __str__(self) -> str:
        text = self.doing + (f" {self.on}" if self.on else "")
        if self.found:
            text += f": {self.found}"
        if self.fix:
            text += (" " if text.endswith("?") else ". ") + self.fix[0].upper() + self.fix[1:]
        return text

    def __reduce__(self) -> tuple[Any, ...]:
        return _rebuild, (type(self), self.as_dict())

    def as_dict(self) -> dict[str, Any]:
        """{code, doing, on, found, fix, retryable, wait_seconds, details}: what a log line, a run or an API answer keeps."""
        return {
            "code": self.code,
            "doing": self.doing,
            "on": self.on,
            "found": self.found,
            "fix": self.fix,
            "retryable": self.retryable,
            "wait_seconds": self.wait_seconds,
            "details": self.details,
        }


def _rebuild(kind: type[ReedError], facts: dict[str, Any]) -> ReedError:
    return kind(
        facts["doing"],
        facts["on"],
        found=facts["found"],
        fix=facts["fix"],
        code=facts["code"],
        wait_seconds=facts["wait_seconds"],
        details=facts["details"],
    )


class DefinitionError(ReedError):
    """A basket has mistakes; `details` is the list of them (see spec.mistakes.Mistake.as_dict)."""

    code = "definition.mistakes"


class SecretMissing(ReedError):
    """A definition names a secret that nobody has set."""

    code = "secret.missing"


class SourceError(ReedError):
    """Whatever goes wrong at a source, and has no class of its own."""

    code = "source.error"


class SourceUnreachable(SourceError):
    """No connection, or one that broke off: the run is tried again."""

    code = "source.unreachable"
    retryable = True


class SourceTimedOut(SourceError):
    """An answer, a row or a lock that took too long."""

    code = "source.timed_out"
    retryable = True


class SourceRefused(SourceError):
    """The source does not know who is asking."""

    code = "source.refused"


class SourceForbidden(SourceError):
    """The source knows who is asking, who may not."""

    code = "source.no_right"


class SourceBusy(SourceError):
    """Somebody else holds what can be read by one alone."""

    code = "source.busy"
    retryable = True


class SourceFailed(SourceError):
    """The source says that it failed itself."""

    code = "source.failed"
    retryable = True


class BodyCutOff(SourceError):
    """A body ended before it was whole."""

    code = "source.body_cut_off"
    retryable = True


class BodyUnreadable(SourceError):
    """A body is not what it is said to be: its packing, its encoding, its format."""

    code = "source.body_unreadable"
    retryable = True


class BodyTooLarge(SourceError):
    """A body of more bytes than a worker may hold."""

    code = "source.body_too_large"


class RecordsNotFound(SourceError):
    """An answer has no records where the definition says they are."""

    code = "source.records_not_found"


class PagesLooped(SourceError):
    """Pages that lead back to one that was read, or on without end."""

    code = "source.pages_looped"


class Incomplete(SourceError):
    """What came is less than what the source says it has; nothing of it counts as read."""

    code = "source.incomplete"
    retryable = True


class PagesMoved(SourceError):
    """A list moved while its pages were read, so that some of it may have been missed."""

    code = "source.pages_moved"
    retryable = True


class FieldNotFound(SourceError):
    """A field that the definition needs, and no record has."""

    code = "source.field_not_found"


class ForeignPage(SourceError):
    """A sign-in page or a proxy's error in place of data."""

    code = "source.foreign_page"


class SignInFailed(SourceError):
    """No access token was to be had."""

    code = "source.sign_in_failed"


class SignInNeeded(SourceError):
    """A person has to sign in at the source once more."""

    code = "source.sign_in_needed"


class SourceResting(SourceError):
    """It failed so often that it is left alone for a while."""

    code = "source.cooling_down"


class QuotaUsed(SourceError):
    """As many requests were made as a span of time allows."""

    code = "source.quota_used"


class WarehouseError(ReedError):
    """Whatever goes wrong at a warehouse, and has no class of its own."""

    code = "warehouse.error"


class WarehouseBusy(WarehouseError):
    """Another session holds a lock for longer than a load waits."""

    code = "warehouse.busy"
    retryable = True


class TableNotOurs(WarehouseError):
    """A table of that name was made by somebody else."""

    code = "warehouse.table_not_ours"


class CursorMoved(WarehouseError):
    """Another run of the feed committed meanwhile."""

    code = "warehouse.cursor_moved"


class ConnectionLost(WarehouseError):
    """The connection to a warehouse broke off."""

    code = "warehouse.connection_lost"
    retryable = True


class QueryRefused(WarehouseError):
    """A query of somebody's own that the warehouse does not take."""

    code = "warehouse.query_refused"


class DriftStopped(ReedError):
    """The source's structure differs from the expected one, and the feed says stop."""

    code = "drift.stopped"


class NotReconciled(ReedError):
    """A ledger line whose counts do not add up: nothing of the load is committed."""

    code = "run.not_reconciled"


class TooManyRejects(ReedError):
    """More records were rejected than the feed allows."""

    code = "run.too_many_rejects"


class TooManyRemoved(ReedError):
    """A read holds so much less than the warehouse that it is rather doubted than believed."""

    code = "run.too_many_removed"


class RunCancelled(ReedError):
    """Somebody asked the run to stop."""

    code = "run.cancelled"


class RunWoundUp(ReedError):
    """The service stops: the run committed what it had, and goes on at the next start."""

    code = "run.shut_down"
    retryable = True


class NotFound(ReedError):
    """Something is named that is not there."""

    code = "reed.not_found"


def no_such_table(doing: str, on: str, known: str) -> NotFound:
    """known: what there is, in words: "tables of the feed: sailings, bookings"."""
    return NotFound(doing, on, found=known, fix="name one of them", code="table.not_found")


class Conflict(ReedError):
    """What is asked for does not go with what is there already."""

    code = "reed.conflict"
