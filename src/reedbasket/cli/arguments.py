"""Every command with its arguments, help and example."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from . import data, definitions, explain, feeds, files, folder_arguments, people, runs, schedule, services, sources
from .serve_options import SERVE

Command = Callable[[argparse.Namespace], int]
ROLES = ["viewer", "operator", "editor", "admin"]


def build() -> argparse.ArgumentParser:
    """The whole command line, with an example for each command."""
    parser = argparse.ArgumentParser(
        prog="reed",
        description="Reed Basket: pulls records from live sources into warehouse tables, without losing or doubling a row.",
        epilog="Each command has its own help: reed run --help",
    )
    commands = parser.add_subparsers(metavar="COMMAND", required=True)
    shared = argparse.ArgumentParser(add_help=False)
    shared.add_argument("--url", help="address of the service (else REED_URL, else the data folder's)")
    shared.add_argument("--token", help="bearer token (else REED_TOKEN, else the data folder's)")
    shared.add_argument("--json", action="store_true", help="print JSON")

    def add(name: str, command: Command, about: str, example: str, *, local: bool = False) -> argparse.ArgumentParser:
        made = commands.add_parser(
            name,
            help=about,
            description=about[0].upper() + about[1:] + ".",
            epilog=f"example:\n  {example}",
            formatter_class=argparse.RawDescriptionHelpFormatter,
            parents=[] if local else [shared],
        )
        made.set_defaults(command=command)
        return made

    _services(add)
    meaning = add("explain", explain.explain, "explain an error code", "reed explain source.cdc_position_lost", local=True)
    meaning.add_argument("code", nargs="?", help="a code, or a group's name for all of its codes; all codes by default")
    meaning.add_argument("--json", action="store_true", help="print JSON")
    _people(add)
    _definitions(add)
    folder_arguments.connectors_to(add)
    _sources(add)
    _feeds(add)
    _reading_again(add)
    _runs(add)
    _schedules(add)
    _data(add)
    folder_arguments.extracts_to(add)
    return parser


def _services(add: Callable[..., argparse.ArgumentParser]) -> None:
    serve = add("serve", services.serve, "start the service", "reed serve --data ./reed-data --port 8640", local=True)
    serve.add_argument("--data", help="data folder (else REED_DATA, ./reed-data, or one in your home)")
    for name, default, about in SERVE:
        kind = int if isinstance(default, int) else str
        shown = f" ({default})" if default != "" else ""
        serve.add_argument(f"--{name.replace('_', '-')}", type=kind, help=about + shown)

    demo = add(
        "demo",
        services.demo,
        "start the service with made-up data, or make something happen at its sources",
        "reed demo",
        local=True,
    )
    demo.add_argument("--data", help="data folder, cleared if an earlier demo made it (./reed-data)")
    demo.add_argument("--port", type=int, default=8640, help="port (8640)")
    demo.add_argument(
        "--postgres",
        action="store_true",
        help="run the dock's database on a private PostgreSQL, and read it by change data capture",
    )
    demo.add_argument("--mysql", action="store_true", help="run the warehouse `marsh` on a private MariaDB")
    demo.set_defaults(json=False)
    more = demo.add_subparsers(metavar="[event]")
    happen = more.add_parser(
        "event",
        help="make something happen at a source of the running demo",
        epilog="example:\n  reed demo event bookings_added",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    happen.add_argument("thing", nargs="?", help="the event; without it, list all events")
    happen.set_defaults(command=services.happen)

    backup = add(
        "backup",
        services.backup,
        "back up the data folder while the service runs",
        "reed backup reed.tar.gz",
        local=True,
    )
    backup.add_argument("file", help="the tar file to write; it contains the encryption key, so protect it")
    backup.add_argument("--data", help="data folder (else REED_DATA, ./reed-data, or one in your home)")
    backup.add_argument("--without-key", action="store_true", help="leave out the key that secrets are encrypted with")
    restore = add(
        "restore", services.restore, "create a data folder from a backup", "reed restore reed.tar.gz --data ./new", local=True
    )
    restore.add_argument("file")
    restore.add_argument("--data", required=True, help="an empty folder, or one that does not exist yet")

    add("sign-in", services.sign_in, "print a one-time link that signs you into the console", "reed sign-in")


def _people(add: Callable[..., argparse.ArgumentParser]) -> None:
    add("users", people.users, "list the people who may sign in", "reed users")
    user = add("user", people.user, "add, change or remove a person who may sign in", "reed user add wren --role operator")
    user.add_argument("action", choices=["add", "change", "remove"])
    user.add_argument("name", nargs="?")
    user.add_argument("--role", choices=ROLES)
    user.add_argument(
        "--password", action="store_true", help="change: set a new password, asked for or read from standard input"
    )
    able = user.add_mutually_exclusive_group()
    able.add_argument("--disable", action="store_true", help="change: block sign-in")
    able.add_argument("--enable", action="store_true", help="change: allow sign-in again")

    add("tokens", people.tokens, "list the bearer tokens of programs", "reed tokens")
    token = add(
        "token",
        people.token,
        "add or remove a bearer token for a program",
        "reed token add nightly --role operator --days 90",
    )
    token.add_argument("action", choices=["add", "remove"])
    token.add_argument("name", nargs="?", metavar="LABEL", help="add: a label; remove: an id")
    token.add_argument("--role", choices=ROLES, help="its role (viewer)")
    token.add_argument("--days", type=int, help="days until it expires")

    settings = add(
        "settings",
        people.settings,
        "show or change the service's settings, such as how long data is kept",
        "reed settings keep-days 30",
    )
    settings.add_argument("name", nargs="?", help="the setting to change")
    settings.add_argument("value", type=int, nargs="?", help="days; without it, the value at the service's start")

    audit = add("audit", people.audit, "show the audit log, newest first", "reed audit --limit 20")
    audit.add_argument("--limit", type=int, default=30)


def _definitions(add: Callable[..., argparse.ArgumentParser]) -> None:
    apply = add("apply", definitions.apply, "check a basket and apply it as one", "reed apply ./basket")
    apply.add_argument("folder", help="a folder of YAML definitions, or one file")
    apply.add_argument("--dry-run", action="store_true", help="show what would change, apply nothing")
    apply.add_argument("--prune", action="store_true", help="remove definitions that the basket does not contain")
    apply.add_argument(
        "--settings",
        action="append",
        default=[],
        metavar="FILE",
        help="definitions that override the basket's in this environment",
    )

    export = add(
        "export", definitions.export, "write the definitions in force as YAML, as they were applied", "reed export ./basket"
    )
    export.add_argument("folder", nargs="?", help="folder to write to; without it, to standard output")

    versions = add("versions", definitions.versions, "show the versions of a definition", "reed versions feed harbour")
    versions.add_argument("kind", choices=["connector", "source", "warehouse", "feed"])
    versions.add_argument("name")
    versions.add_argument("--diff", action="store_true", help="also show each version's difference from the previous one")

    revert = add("revert", definitions.revert, "restore an earlier version of a definition", "reed revert feed harbour 1")
    revert.add_argument("kind", choices=["connector", "source", "warehouse", "feed"])
    revert.add_argument("name")
    revert.add_argument("version", type=int)

    listed = add("definitions", definitions.list_all, "list the definitions in force", "reed definitions feed harbour")
    listed.add_argument("kind", nargs="?", choices=["connector", "source", "warehouse", "feed"])
    listed.add_argument("name", nargs="?", help="show this one")

    add(
        "schema",
        definitions.schema,
        "print the JSON Schema of definitions, for editors",
        "reed schema > basket.schema.json",
    )

    add("secrets", definitions.secrets, "list the names of the secrets; values are never shown", "reed secrets")
    secret = add(
        "secret",
        definitions.secret,
        "set or remove a secret, or re-encrypt all with a new key",
        "reed secret set partner_key",
    )
    secret.add_argument("action", choices=["set", "remove", "rotate"])
    secret.add_argument("name", nargs="?")


def _sources(add: Callable[..., argparse.ArgumentParser]) -> None:
    add("sources", sources.list_all, "list sources with their connector, address and rate limit", "reed sources")

    check = add("check", data.check, "test a source or a warehouse step by step", "reed check harbour")
    check.add_argument("name", help="a source or a warehouse")

    setup = add(
        "setup-sql",
        sources.setup_sql,
        "print the SQL that an administrator has to run for a database source",
        "reed setup-sql dock",
    )
    setup.add_argument("source")

    survey = add(
        "survey", sources.survey, "list a source's tables with columns, keys and cursor candidates", "reed survey dock"
    )
    survey.add_argument("source")
    survey.add_argument("tables", nargs="*", metavar="TABLE", help="only these; for a database also patterns, such as 'yard.*'")
    survey.add_argument(
        "--exclude", action="append", default=[], metavar="PATTERN", help="leave out tables of a database that match"
    )

    preview = add(
        "preview", sources.preview, "show the first records of a table at the source", "reed preview harbour sailings --wire"
    )
    preview.add_argument("source")
    preview.add_argument("table")
    preview.add_argument("--rows", type=int, default=10)
    preview.add_argument("--wire", action="store_true", help="also show the request and the response, with secrets masked")

    requests = add("requests", sources.requests, "list the requests of a run", "reed requests 1")
    requests.add_argument("run", type=int)
    requests.add_argument("--limit", type=int, default=50)
    requests.add_argument("--failed", action="store_true", help="only failed requests")
    requests.add_argument("--to-file", metavar="FILE", help="write all of them as NDJSON")
    requests.add_argument(
        "--show",
        type=int,
        metavar="NUMBER",
        help="show the request and the response of one that failed, or of a run with --bodies",
    )


def _feeds(add: Callable[..., argparse.ArgumentParser]) -> None:
    add("feeds", feeds.list_all, "list feeds with their state, last success and last outcome", "reed feeds")

    plan = add("plan", feeds.plan, "show what a run would do, from a sample of each table", "reed plan harbour")
    plan.add_argument("feed")
    plan.add_argument("--full", action="store_true", help="also print the definition with every default filled in")

    ledger = add("ledger", feeds.ledger, "show a feed's loads, newest first", "reed ledger harbour")
    ledger.add_argument("feed")
    ledger.add_argument("--limit", type=int, default=20)

    rejects = add("rejects", feeds.rejects, "list records that could not be loaded, with the reason", "reed rejects harbour")
    rejects.add_argument("feed")
    rejects.add_argument("--limit", type=int, default=20)
    rejects.add_argument("--to-file", metavar="FILE", help="write all of them as NDJSON, with the original records")

    replay = add("replay", runs.replay, "load a feed's rejects again, after its definition was fixed", "reed replay harbour")
    replay.add_argument("feed")

    drift = add("drift", feeds.drift, "show how the structure of a feed's source changed", "reed drift harbour")
    drift.add_argument("feed")
    drift.add_argument("--limit", type=int, default=20)

    files_of = add("files", files.list_all, "list the files of a feed and their state", "reed files turnstiles --state failed")
    files_of.add_argument("feed")
    files_of.add_argument("table", nargs="?", help="only files of this table")
    files_of.add_argument("--state", choices=["loaded", "failed", "ignored", "missing", "requeued"])
    files_of.add_argument("--match", metavar="PATTERN", help="only paths that match")
    files_of.add_argument("--limit", type=int, default=30)


def _reading_again(add: Callable[..., argparse.ArgumentParser]) -> None:
    rewind = add(
        "rewind",
        files.rewind,
        "have the next run read part of a source again",
        "reed rewind turnstiles counts --file 'OSQ/*'\n  reed rewind harbour sailings --to 2026-11-01 --dry-run",
    )
    rewind.add_argument("feed")
    rewind.add_argument("table")
    which = rewind.add_mutually_exclusive_group(required=True)
    which.add_argument("--file", action="append", metavar="PATTERN", help="files to load again: a path or a pattern")
    which.add_argument("--to", metavar="VALUE", help="read again from an earlier value of the table's cursor")
    which.add_argument("--from-start", action="store_true", help="read again from the beginning")
    rewind.add_argument("--dry-run", action="store_true", help="only say what it would cost (not with --file)")

    verify = add(
        "verify",
        feeds.verify,
        "read the source in full and compare it with the warehouse",
        "reed verify harbour --table landings --deep",
    )
    verify.add_argument("feed")
    verify.add_argument("--table", help="only this table")
    verify.add_argument("--deep", action="store_true", help="compare values too, not only keys")


def _runs(add: Callable[..., argparse.ArgumentParser]) -> None:
    run = add("run", runs.run, "run a feed and watch it", "reed run harbour --wait")
    run.add_argument("feed")
    run.add_argument(
        "--set",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="override a value of the variant or a setting, for this run only",
    )
    run.add_argument("--allow-loss", action="store_true", help="accept the loss of what cannot be kept; `reed plan` names it")
    run.add_argument(
        "--bodies", action="store_true", help="record requests and responses, with secrets masked; see `reed requests`"
    )
    how = run.add_mutually_exclusive_group()
    how.add_argument("--wait", action="store_true", help="print nothing until the run has ended")
    how.add_argument("--no-wait", action="store_true", help="start it and return at once")

    listed = add("runs", runs.list_all, "list runs, newest first", "reed runs --feed harbour --limit 5")
    listed.add_argument("--feed")
    listed.add_argument("--limit", type=int, default=20)

    watch = add("watch", runs.watch, "follow a run live", "reed watch 1")
    watch.add_argument("run", type=int, nargs="?", help="the run's number; the latest run by default")

    cancel = add("cancel", runs.cancel, "cancel a run; what it has committed stays", "reed cancel 1")
    cancel.add_argument("run", type=int)

    log = add("log", runs.log, "print a run's log", "reed log 1")
    log.add_argument("run", type=int)


def _schedules(add: Callable[..., argparse.ArgumentParser]) -> None:
    for name, command, about in (
        ("pause", schedule.pause, "pause schedules"),
        ("resume", schedule.resume, "resume paused schedules"),
    ):
        made = add(name, command, about, f"reed {name} harbour")
        made.add_argument("feed", nargs="+")

    add("schedules", schedule.list_all, "list scheduled feeds with their next run and latest windows", "reed schedules")

    windows = add(
        "windows", schedule.windows, "list a feed's time windows and their state", "reed windows tides --state failed"
    )
    windows.add_argument("feed")
    windows.add_argument("--state", choices=["waiting", "queued", "done", "failed", "skipped"])
    windows.add_argument("--limit", type=int, default=30)
    windows.add_argument("--retry", metavar="FROM/UNTIL", help="run the failed and skipped windows of a range again")

    backfill = add(
        "backfill",
        schedule.backfill,
        "load a range of the past again, without moving the feed's cursor",
        "reed backfill tides --from 2026-02-01 --until 2026-02-03 --length 1d",
    )
    backfill.add_argument("feed")
    backfill.add_argument("--from", required=True, help="a date or a time")
    backfill.add_argument("--until", required=True)
    backfill.add_argument("--length", required=True, help="the window of each run: 1h, 1d, month")
    backfill.add_argument("--no-wait", action="store_true", help="start it and return at once")

    listed = add(
        "backfills", schedule.backfills, "list backfills, or pause, resume or cancel one", "reed backfills --feed tides"
    )
    listed.add_argument("--feed")
    how = listed.add_mutually_exclusive_group()
    for action in ("pause", "resume", "cancel"):
        how.add_argument(f"--{action}", type=int, metavar="NUMBER")

    notifications = add(
        "notifications",
        schedule.notifications,
        "list notifications and their delivery status",
        "reed notifications --state undeliverable",
    )
    notifications.add_argument("--state", choices=["waiting", "sent", "undeliverable"])
    notifications.add_argument("--limit", type=int, default=30)
    notifications.add_argument("--retry", action="store_true", help="try to deliver the undeliverable ones again")


def _data(add: Callable[..., argparse.ArgumentParser]) -> None:
    profile = add("profile", data.profile, "show statistics of a table's columns", "reed profile marsh sailings")
    profile.add_argument("warehouse")
    profile.add_argument("table")

    add("warehouses", data.warehouses, "list warehouses with their type and place", "reed warehouses")

    tables = add("tables", data.tables, "list a warehouse's tables with their row counts", "reed tables marsh")
    tables.add_argument("warehouse")

    rows = add("rows", data.rows, "show a table's rows, newest load first", "reed rows marsh sailings --limit 5")
    rows.add_argument("warehouse")
    rows.add_argument("table")
    rows.add_argument("--limit", type=int, default=10)
    rows.add_argument("--offset", type=int, default=0)

    sql = add("sql", data.sql, "query a warehouse with SQL, read-only", 'reed sql marsh "select count(*) from sailings"')
    sql.add_argument("warehouse")
    sql.add_argument("statement")
    sql.add_argument("--limit", type=int, default=100)
