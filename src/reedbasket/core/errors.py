"""Every error of Reed Basket: facts first, text only when it leaves.

ReedError
├── DefinitionError          definition.*               a definition cannot be used as it is
├── SecretMissing            secret.missing
├── SourceError              source.*                   the source, or the way to it
│   ├── SourceUnreachable    source.unreachable         (retryable)
│   ├── SourceTimedOut       source.timed_out           (retryable)
│   ├── CredentialsRefused   source.credentials_refused  the source does not accept who is asking
│   ├── SourceForbidden      source.permission_denied   the source accepts who is asking, and does not let them read this
│   ├── SourceBusy           source.busy                (retryable, says how long to wait)
│   ├── SourceFailed         source.failed              (retryable)
│   ├── BodyCutOff           source.body_cut_off        (retryable)
│   ├── BodyUnreadable       source.body_unreadable     (retryable: often a proxy's error page)
│   ├── BodyTooLarge         source.body_too_large
│   ├── RecordsNotFound      source.records_not_found
│   ├── PagesLooped          source.pages_looped
│   ├── Incomplete           source.incomplete          the source itself says that there is more, or that something failed
│   ├── PagesMoved           source.pages_moved         the list changed while its pages were read
│   ├── FieldNotFound        source.field_not_found     no record has the field of the key or the cursor
│   ├── UnexpectedPage       source.unexpected_page     a web page where an answer of the API was expected
│   ├── SignInFailed         source.sign_in_failed      no access token was issued
│   ├── SignInNeeded         source.sign_in_needed      a person has to sign in, in the console
│   ├── SourceCoolingDown    source.cooling_down        after repeated failures
│   └── QuotaExhausted       source.quota_exhausted
├── WarehouseError           warehouse.*
│   ├── WarehouseBusy        warehouse.busy
│   ├── TableNotOwned        warehouse.table_not_owned
│   ├── CursorMoved          warehouse.cursor_moved
│   ├── ConnectionLost       warehouse.connection_lost  (retryable)
│   └── QueryRefused         warehouse.query_refused
├── DriftFailed              drift.failed
├── NotReconciled            run.not_reconciled
├── TooManyRejects           run.too_many_rejects
├── TooManyRemoved           run.too_many_removed
├── RunCancelled             run.cancelled
├── RunShutDown              run.shut_down              committed what it had, and goes on later (retryable)
├── NotFound                 *.not_found
└── Conflict                 the object's state does not allow this; the code says which

A class carries a stable `code`; some families give a more exact code per case. Errors survive pickling, since workers are
processes, and hold no secret: whoever raises one masks first.
"""

from __future__ import annotations

from typing import Any


class ReedError(Exception):
    """One thing that went wrong, as facts.

    Args:
        doing: what was being done.
        on: what it was done to.
        found: what happened instead of what was expected.
        fix: what the reader can do about it.
        code: a more exact code than the class's own.
        wait_seconds: how long the other side asked us to wait, if it did.
        details: more facts, as JSON.

    `retryable` says that the same call may succeed later.
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
        """{code, doing, on, found, fix, retryable, wait_seconds, details}, as log lines, runs and API answers contain it."""
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
    """Any failure at a source that has no class of its own."""

    code = "source.error"


class SourceUnreachable(SourceError):
    """No connection could be made, or it was lost."""

    code = "source.unreachable"
    retryable = True


class SourceTimedOut(SourceError):
    """An answer, a row or a lock took too long."""

    code = "source.timed_out"
    retryable = True


class CredentialsRefused(SourceError):
    """The source does not accept the credentials."""

    code = "source.credentials_refused"


class SourceForbidden(SourceError):
    """The source accepts the credentials, but does not allow what was requested."""

    code = "source.permission_denied"


class SourceBusy(SourceError):
    """Somebody else is using something that only one reader at a time can use."""

    code = "source.busy"
    retryable = True


class SourceFailed(SourceError):
    """The source reports a failure of its own."""

    code = "source.failed"
    retryable = True


class BodyCutOff(SourceError):
    """A body ended too early."""

    code = "source.body_cut_off"
    retryable = True


class BodyUnreadable(SourceError):
    """A body does not have the compression, encoding or format that it should have."""

    code = "source.body_unreadable"
    retryable = True


class BodyTooLarge(SourceError):
    """A body has more bytes than a worker may hold."""

    code = "source.body_too_large"


class RecordsNotFound(SourceError):
    """An answer has no records where the definition says they are."""

    code = "source.records_not_found"


class PagesLooped(SourceError):
    """Pages lead back to one that was read, or go on without end."""

    code = "source.pages_looped"


class Incomplete(SourceError):
    """Fewer records arrived than the source says it has; none of them count as read."""

    code = "source.incomplete"
    retryable = True


class PagesMoved(SourceError):
    """The list changed while its pages were read, so records may have been missed."""

    code = "source.pages_moved"
    retryable = True


class FieldNotFound(SourceError):
    """No record has a field that the definition needs."""

    code = "source.field_not_found"


class UnexpectedPage(SourceError):
    """A sign-in page or a proxy's error page arrived in place of data."""

    code = "source.unexpected_page"


class SignInFailed(SourceError):
    """No access token was issued."""

    code = "source.sign_in_failed"


class SignInNeeded(SourceError):
    """A person has to sign in at the source again."""

    code = "source.sign_in_needed"


class SourceCoolingDown(SourceError):
    """After repeated failures, no request is sent for a while."""

    code = "source.cooling_down"


class QuotaExhausted(SourceError):
    """The quota of requests for a span of time is used up."""

    code = "source.quota_exhausted"


class WarehouseError(ReedError):
    """Any failure at a warehouse that has no class of its own."""

    code = "warehouse.error"


class WarehouseBusy(WarehouseError):
    """Another session holds a lock for longer than a load waits for it."""

    code = "warehouse.busy"
    retryable = True


class TableNotOwned(WarehouseError):
    """Somebody else made a table of that name."""

    code = "warehouse.table_not_owned"


class CursorMoved(WarehouseError):
    """Another run of the feed committed in the meantime."""

    code = "warehouse.cursor_moved"


class ConnectionLost(WarehouseError):
    """The connection to a warehouse was lost."""

    code = "warehouse.connection_lost"
    retryable = True


class QueryRefused(WarehouseError):
    """The warehouse refuses a query that a user wrote."""

    code = "warehouse.query_refused"


class DriftFailed(ReedError):
    """The source's structure differs from what is expected, and the feed says to fail."""

    code = "drift.failed"


class NotReconciled(ReedError):
    """The counts of a load do not add up; nothing of it is committed."""

    code = "run.not_reconciled"


class TooManyRejects(ReedError):
    """More records were rejected than the feed allows."""

    code = "run.too_many_rejects"


class TooManyRemoved(ReedError):
    """A complete read has so many fewer rows than the warehouse that it is not trusted."""

    code = "run.too_many_removed"


class RunCancelled(ReedError):
    """Somebody asked the run to stop."""

    code = "run.cancelled"


class RunShutDown(ReedError):
    """The service is stopping; the run committed what it had, and continues at the next start."""

    code = "run.shut_down"
    retryable = True


class NotFound(ReedError):
    """What was named does not exist."""

    code = "reed.not_found"


def no_such_table(doing: str, on: str, known: str) -> NotFound:
    """The error for a table that does not exist; known: what exists, in words: "tables of the feed: sailings, bookings"."""
    return NotFound(doing, on, found=known, fix="name one of them", code="table.not_found")


class Conflict(ReedError):
    """The request conflicts with the present state."""

    code = "reed.conflict"
