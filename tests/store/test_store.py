"""The service's own records: upgrades, secrets, one run at a time, access, pace."""

from __future__ import annotations

import os
import sqlite3
import stat
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from reedbasket.core.errors import Conflict, NotFound, RunCancelled, SecretMissing
from reedbasket.core.runs import RunOutcome, TableProgress
from reedbasket.core.shaping import Reject
from reedbasket.core.sources.pace import RateLimitFeedback, Wait
from reedbasket.core.spec import load_texts
from reedbasket.core.spec.http import Pace, Retry
from reedbasket.core.warehouses import LedgerLine
from reedbasket.store import Store, access, definitions, journal, runs, secrets
from reedbasket.store.database import StoreError
from reedbasket.store.pace import StorePacer
from tests.support.feeds import basket_text


@pytest.fixture
def store(tmp_path: Path) -> Store:
    made = Store(tmp_path / "data")
    made.upgrade()
    return made


def test_a_commit_that_fails_leaves_nothing_open(store: Store) -> None:
    """As on a full disk: the next one, here and elsewhere, finds no lock."""
    with pytest.raises(sqlite3.IntegrityError), store.transaction() as connection:
        connection.execute("create table a (id integer primary key)")
        connection.execute("create table b (a integer references a deferrable initially deferred)")
        connection.execute("insert into b values (1)")
    with store.transaction() as connection:
        assert not connection.execute("select 1 from sqlite_master where name = 'b'").fetchall()


def test_a_data_folder_is_made_once_and_kept_and_a_newer_one_is_refused(tmp_path: Path) -> None:
    store = Store(tmp_path / "data")
    assert store.upgrade() == ["0001_schema.sql"]
    definitions.apply(store, load_texts({"a.yaml": "warehouse: marsh\ntype: sqlite\npath: marsh.db\n"}))
    access.make_token(store, "works")
    store.close()
    again = Store(tmp_path / "data")
    assert again.upgrade() == [] and [d.name for d in definitions.current(again)] == ["marsh"]
    again.connection.execute("pragma user_version = 9")
    with pytest.raises(StoreError) as refused:
        again.upgrade()
    assert refused.value.code == "store.other_version"


def test_a_folder_of_a_newer_version_is_left_alone(store: Store) -> None:
    store.connection.execute("pragma user_version = 99")
    with pytest.raises(StoreError, match=r"another version \(schema 99; this one knows"):
        Store(store.folder).upgrade()


def test_versions_grow_only_with_changes(store: Store) -> None:
    text = basket_text("http://127.0.0.1:1")
    assert {d["change"] for d in definitions.apply(store, load_texts({"a": text}))} == {"new"}
    assert {d["change"] for d in definitions.apply(store, load_texts({"a": text}))} == {"same"}
    done = definitions.apply(store, load_texts({"a": text.replace("write: upsert", "write: append")}))
    assert [(d["name"], d["version"]) for d in done if d["change"] == "changed"] == [("test", 2)]
    assert definitions.feed_version(store, "test") == 2
    assert set(definitions.basket(store).feeds) == {"test"}


def test_places_are_told_of_definitions_that_are_valid_no_more(store: Store) -> None:
    definitions.apply(store, load_texts({"a.yaml": basket_text("http://127.0.0.1:1")}))
    changed = basket_text("http://127.0.0.1:1", warehouse="type: duckdb\npath: marsh.duckdb")
    definitions.apply(store, load_texts({"a.yaml": changed}))
    with store.transaction() as connection:
        connection.execute(
            """insert into definition (kind, name, version, data, file, applied_at)
               values ('source', 'old', 1, '{"type": "mysql", "gone": 1}', 'b.yaml', '')"""
        )
    assert definitions.places(store) == {"source": {"mysql"}, "warehouse": {"duckdb"}}


def test_secrets_are_sealed(store: Store, monkeypatch: pytest.MonkeyPatch) -> None:
    secrets.set_secret(store, "harbour_token", "very-secret-value")
    assert secrets.reveal_secret(store, "harbour_token") == "very-secret-value"
    assert stat.S_IMODE(os.stat(store.folder / "key").st_mode) == 0o600
    assert stat.S_IMODE(os.stat(store.folder).st_mode) == 0o700
    store.connection.execute("pragma wal_checkpoint(truncate)")
    assert b"very-secret-value" not in (store.folder / "service.db").read_bytes()
    assert "very" not in str(secrets.list_secrets(store))
    with pytest.raises(SecretMissing, match="reed secret set other"):
        secrets.reveal_secret(store, "other")
    from cryptography.fernet import Fernet

    monkeypatch.setenv("REED_KEY", Fernet.generate_key().decode())
    with pytest.raises(StoreError, match="does not fit"):
        secrets.reveal_secret(store, "harbour_token")
    monkeypatch.setenv("REED_KEY", "nonsense")
    with pytest.raises(StoreError, match="not a Fernet key") as caught:
        secrets.set_secret(store, "a", "b")
    assert "nonsense" not in str(caught.value)


def test_one_run_of_a_feed_at_a_time_whoever_asks(store: Store) -> None:
    won: list[int] = []
    lost: list[Conflict] = []

    def ask() -> None:
        try:
            won.append(runs.ask(store, runs.RunRequest("test", 1)))
        except Conflict as error:
            lost.append(error)
        finally:
            store.close()

    threads = [threading.Thread(target=ask) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert (len(won), len(lost)) == (1, 7)
    assert all(error.code == "run.already_active" for error in lost)
    assert runs.take(store, won[0], 123)
    assert not runs.take(store, won[0], 456)
    assert runs.end(store, won[0], RunOutcome.SUCCEEDED, None)
    assert not runs.end(store, won[0], RunOutcome.FAILED, None)
    assert runs.get(store, won[0])["outcome"] == "succeeded"
    assert runs.ask(store, runs.RunRequest("test", 1)) == won[0] + 1
    with pytest.raises(NotFound):
        runs.get(store, 99)


def test_progress_log_and_rejects_are_kept(store: Store) -> None:
    run = runs.ask(store, runs.RunRequest("test", 1))
    with store.transaction() as connection:
        runs.save_progress(connection, run, [(0, TableProgress("t", "t", read=5, rejected=1))])
        journal.save_log(connection, run, 1, [("2026-01-01T00:00:00Z", "info", "request", "t", "GET /", {"status": 200})])
        bad = Reject(0, "value.wrong_type", "text 'x' does not fit", "n", {"id": 1, "n": "x"})
        journal.save_rejects(connection, "test", "marsh", run, "t", [bad])
        journal.save_rejects(
            connection, "test", "marsh", run + 1, "t", [bad, Reject(1, "key.missing", "null", "id", {"n": "\ud800"})]
        )
        # Another warehouse's of the same record is its own.
        journal.save_rejects(connection, "other", "reeds", run, "t", [bad])
    assert runs.get(store, run)["totals"]["read"] == 5
    assert journal.read_log(store, run)[0]["data"] == {"status": 200}
    kept = journal.read_rejects(store, "test")
    assert [(r["code"], r["times"]) for r in kept] == [("key.missing", 1), ("value.wrong_type", 2)]
    again = journal.rejects_to_replay(store, "test", "marsh", run + 2)
    assert {place: (len(held.records), held.runs) for place, held in again.items()} == {("marsh", "t"): (2, [run + 1] * 2)}


def test_a_replay_that_was_killed_behind_its_load_is_not_loaded_twice(store: Store) -> None:
    bad = [Reject(n, "value.wrong_type", "no", "n", {"id": n, "n": "x"}) for n in range(3)]
    with store.transaction() as connection:
        for table in ("loaded", "not_loaded", "loaded_in_part"):
            journal.save_rejects(connection, "test", "marsh", 1, table, bad)
    journal.rejects_to_replay(store, "test", "marsh", 2)
    # What a replay rejects again is kept before its load is committed.
    with store.transaction() as connection:
        journal.save_rejects(connection, "test", "marsh", 2, "loaded_in_part", bad[:1])
    lines = [
        LedgerLine(place, 2, "test", "s", table, table, "append", 3, 3, 3 - left, 0, 0, 0, 0, left, 0, 0, None, None, 0, "", "")
        for place, (table, left) in enumerate((("loaded", 0), ("loaded_in_part", 1)))
    ]
    with store.transaction() as connection:
        journal.keep_ledger(connection, "marsh", lines)
    found = journal.rejects_to_replay(store, "test", "marsh", 3)
    assert {table: len(held.ids) for (_, table), held in found.items()} == {"not_loaded": 3, "loaded_in_part": 1}
    # Rejected once more, it stays, as of the run that met it at the source; the others are forgotten.
    with store.transaction() as connection:
        journal.save_rejects(connection, "test", "marsh", 3, "not_loaded", bad[:1])
    journal.drop_replayed_rejects(store, found["marsh", "not_loaded"].ids, 3)
    again = journal.rejects_to_replay(store, "test", "marsh", 4)["marsh", "not_loaded"]
    assert [record["id"] for record in again.records] == [0] and again.runs == [1]


def test_sign_in_codes_are_good_once_and_only_hashes_are_kept(store: Store) -> None:
    token, code = access.make_token(store, "t"), access.make_code(store)
    session = access.use_code(store, code)
    assert session is not None
    assert access.use_code(store, code) is None
    assert access.caller_of_session(store, session) == access.Caller(access.LOCAL, "admin")
    assert access.caller_of_token(store, token) == access.Caller("t", "admin")
    assert access.caller_of_token(store, token + "x") is None
    kept = str(
        [tuple(r) for t in ("token", "sign_in_code", "console_session") for r in store.connection.execute(f"select * from {t}")]
    )
    assert token not in kept
    assert session not in kept
    access.end_session(store, session)
    assert access.caller_of_session(store, session) is None
    store.connection.execute("update sign_in_code set ends_at = '2020'")
    late = access.make_code(store)
    store.connection.execute("update sign_in_code set ends_at = '2020'")
    assert access.use_code(store, late) is None


_ASKING = """
import sys, threading, time
from pathlib import Path
from reedbasket.core.sources.pace import RateLimitFeedback
from reedbasket.core.spec.http import Pace, Retry
from reedbasket.store import Store
from reedbasket.store.pace import StorePacer
pacer = StorePacer(Store(Path(sys.argv[1])), "harbour", Pace(per_second=40, concurrency=2), Retry(), 5)
for _ in range(10):
    turn = pacer.turn(threading.Event(), print)
    print(time.time(), flush=True)
    turn.done(RateLimitFeedback())
"""


@pytest.mark.slow
def test_the_pace_holds_across_processes(store: Store) -> None:
    """Two processes that do not know of each other, 20 requests at 40 a second."""
    both = [
        subprocess.Popen([sys.executable, "-c", _ASKING, str(store.folder)], stdout=subprocess.PIPE, text=True)
        for _ in range(2)
    ]
    times = sorted(float(line) for p in both for line in p.communicate(timeout=60)[0].split())
    assert len(times) == 20
    # 19 gaps of 25 ms between the first and the last, however the two took turns.
    assert times[-1] - times[0] >= 19 * 0.025 - 0.01


_GREEDY = """
import sys, threading, time
from pathlib import Path
from reedbasket.core.sources.pace import RateLimitFeedback
from reedbasket.core.spec.http import Pace, Retry
from reedbasket.store import Store
from reedbasket.store.pace import StorePacer
pacer, ends, turns = StorePacer(Store(Path(sys.argv[1])), "harbour", Pace(concurrency=4), Retry(), 5), time.time() + 2.0, []
def ask():
    while time.time() < ends:
        turn = pacer.turn(threading.Event(), print)
        time.sleep(0.02)
        turn.done(RateLimitFeedback())
        turns.append(1)
threads = [threading.Thread(target=ask) for _ in range(int(sys.argv[2]))]
[t.start() for t in threads]
[t.join() for t in threads]
pacer.close()
print(len(turns))
"""


@pytest.mark.slow
def test_a_hungry_process_leaves_others_their_share(store: Store) -> None:
    """Eight threads in one process, one in another, four places: the one is not kept out."""
    both = [
        subprocess.Popen([sys.executable, "-c", _GREEDY, str(store.folder), threads], stdout=subprocess.PIPE, text=True)
        for threads in ("8", "1")
    ]
    hungry, modest = (int(process.communicate(timeout=60)[0]) for process in both)
    assert hungry > modest > 25  # of about 80 that it could ask in two seconds alone
    assert store.connection.execute("select count(*) from pace_place").fetchone()[0] == 0


def test_places_of_a_killed_worker_are_free_again(store: Store) -> None:
    pace, waits = Pace(concurrency=1), list[Wait]()
    with store.transaction() as connection:
        ended = subprocess.Popen(["true"])
        ended.wait()
        connection.execute(
            "insert into pace_place (source, worker, ends_at) values ('s', ?, ?)", (ended.pid, time.time() + 600)
        )
    pacer, stop = StorePacer(store, "s", pace, Retry(), 5), threading.Event()
    turn = pacer.turn(stop, waits.append)
    threading.Timer(0.1, stop.set).start()
    with pytest.raises(RunCancelled):
        pacer.turn(stop, waits.append)
    turn.done(RateLimitFeedback(rest_seconds=50))
    with pytest.raises(RunCancelled):
        pacer.turn(stop, waits.append)
    assert [(round(wait.seconds), wait.why) for wait in waits] == [(50, "the source asked to wait")]
    assert store.connection.execute("select count(*) from pace_place").fetchone()[0] == 0
