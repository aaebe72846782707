"""`python -m tests.contracts.killed_mysql [KILLS] [SEED]`: commits to a private MariaDB, each killed at a random statement, before it is
sent or while the server works on it. Readers see what was, or what is to be; the next load ends as if nothing had happened. The last line
says how many kills there were, and how many went wrong.
"""

from __future__ import annotations

import random
import re
import sys
import tempfile
from collections import Counter
from contextlib import suppress
from pathlib import Path
from typing import Any

from pymysql.constants import COMMAND, SERVER_STATUS

from reedbasket.core.warehouses.mysql import connect
from reedbasket.core.warehouses.mysql import engine as mysql_engine
from tests.contracts.commits import WAYS, everything, load, seen, version
from tests.support.maria import Maria
from tests.support.warehouses import Place


class Killed(BaseException):
    """The process is no more."""


class Countdown:
    """Statements of a loading connection until its process is killed; None for never."""

    def __init__(self) -> None:
        self.left: int | None = None
        self.sent = 0
        self.half = False
        # Statements that would have committed what was begun.
        self.committing: list[str] = []

    def connect(self, address: Any) -> Any:
        connection: Any = _CONNECT(address)
        execute = connection._execute_command

        def counted(command: int, statement: Any) -> None:
            self.sent += 1
            within = (self.left is None or self.left > 0) and connection.server_status & SERVER_STATUS.SERVER_STATUS_IN_TRANS
            if within and command == COMMAND.COM_QUERY and _CHANGES_TABLES.match(str(statement)):
                self.committing.append(str(statement))
            if self.left is not None and command == COMMAND.COM_QUERY:
                self.left -= 1
                if self.left < 0:
                    if self.half and self.left == -1:
                        execute(command, statement)  # and nobody hears the answer
                    with suppress(OSError):
                        connection._force_close()
                    raise Killed
            execute(command, statement)

        connection._execute_command = counted
        return connection


# Temporary tables are made and dropped without a commit, and only that.
_CHANGES_TABLES = re.compile(r"(b'|b\")?\s*(create (?!temporary)|drop (?!temporary)|alter|rename|truncate)", re.IGNORECASE)
_CONNECT = connect.connect_writer
COUNTDOWN = Countdown()


def kill_once(maria: Maria, way: str, rng: random.Random, folder: Path) -> str:
    """Returns what went wrong; '' if nothing did."""
    before, now = WAYS[way]
    whole, place = (Place("mysql", folder, maria) for _ in range(2))
    try:
        for each in (whole, place) if before else ():
            load(each, before)  # type: ignore[arg-type]
        old = seen(place)
        COUNTDOWN.sent = 0
        load(whole, now)
        sent, wanted, new = COUNTDOWN.sent, everything(whole), seen(whole)
        started = version(place)
        COUNTDOWN.left, COUNTDOWN.half = rng.randrange(sent), rng.random() < 0.5
        point = f"{way}, killed {'in' if COUNTDOWN.half else 'before'} statement {COUNTDOWN.left} of {sent}"
        with suppress(Killed):
            load(place, now)
        COUNTDOWN.left = None
        shown = {table: rows for table, rows in seen(place).items() if rows or table in old}
        # A change of the mode moves rows in a transaction of its own.
        if shown not in (old, new) and not (before and before[1] != now[1]):
            return f"{point}: readers saw {shown}"
        if version(place) == started:
            load(place, now)
        if COUNTDOWN.committing:
            return f"{way}: would commit what was begun: {COUNTDOWN.committing}"
        ended = everything(place)
        return "" if ended == wanted else f"{point}: ended as {ended}, not {wanted}"
    finally:
        COUNTDOWN.left = None
        for each in (whole, place):
            maria.do(f"drop database {each.schema}")


def kill_often(maria: Maria, kills: int, seed: int) -> tuple[Counter[str], list[str]]:
    """(kills by way, what went wrong)."""
    rng, done, wrong = random.Random(seed), Counter[str](), list[str]()
    mysql_engine.connect_writer = COUNTDOWN.connect
    try:
        with tempfile.TemporaryDirectory() as folder:
            for number in range(kills):
                way = list(WAYS)[number % len(WAYS)]
                done[way] += 1
                if found := kill_once(maria, way, rng, Path(folder)):
                    wrong.append(found)
    finally:
        mysql_engine.connect_writer = _CONNECT
    return done, wrong


def main() -> int:
    kills = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    maria = Maria()
    try:
        done, wrong = kill_often(maria, kills, seed)
    finally:
        maria.stop()
    print("\n".join(wrong + [f"{count:5} {way}" for way, count in done.items()]))
    print(f"killed: {done.total()} commits, {len(wrong)} went wrong")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
