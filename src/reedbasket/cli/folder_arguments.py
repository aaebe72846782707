"""The commands of connector and extract, which work on folders."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from . import connectors, extracts


def connectors_to(add: Callable[..., argparse.ArgumentParser]) -> None:
    """The commands of `reed connector`."""
    made = add(
        "connector",
        connectors.new,
        "create, try and check connectors; no service is needed",
        "reed connector new lockers --python",
        local=True,
    )
    actions = made.add_subparsers(metavar="ACTION", required=True)

    new = actions.add_parser("new", help="create a folder to start from: definition, source, test, README")
    new.set_defaults(command=connectors.new)
    new.add_argument("name")
    kind = new.add_mutually_exclusive_group()
    kind.add_argument("--python", action="store_true", help="as a Python class; declared in YAML by default")
    kind.add_argument(
        "--like",
        metavar="EXAMPLE",
        help="start from a shipped example with its recorded responses: atom, graphql, oai_pmh, odata, prometheus, rabbitmq, sdmx",
    )
    new.add_argument("--folder", help="the folder to create; named after the connector by default")

    attempt = actions.add_parser("try", help="run it into a scratch warehouse and show ten rows and a profile of each table")
    attempt.set_defaults(command=connectors.attempt)
    check = actions.add_parser("check", help="check everything that a connector has to do right")
    check.set_defaults(command=connectors.check)
    for one in (attempt, check):
        one.add_argument("folder", help="the folder of its definitions, with one source")
        one.add_argument("tables", nargs="*", help="only these tables")
        one.add_argument("--source", help="the source to use, if there are several")
        how = one.add_mutually_exclusive_group()
        how.add_argument(
            "--record", action="store_true", help="record the API's responses in the folder's `answers`, with secrets masked"
        )
        how.add_argument("--replay", action="store_true", help="use the recorded responses instead of the API")
    attempt.add_argument("--rows", type=int, default=10, help="rows shown of each table (10)")
    attempt.add_argument("--into", choices=["duckdb", "db"], default="duckdb", help="the scratch file: DuckDB, or SQLite (db)")
    attempt.add_argument("--from-start", action="store_true", help="read from the beginning instead of what is new")
    attempt.add_argument("--watch", action="store_true", help="run again whenever a file is saved")
    check.add_argument("--format", choices=["text", "json", "junit"], default="text", help="format of the report")
    check.add_argument("--to-file", metavar="FILE", help="write the report to this file")


def extracts_to(add: Callable[..., argparse.ArgumentParser]) -> None:
    """The commands of `reed extract`."""
    add("extracts", extracts.list_all, "list the extracts that the service keeps", "reed extracts")
    made = add(
        "extract",
        extracts.list_all,
        "export a feed's records as open files, or load such files",
        "reed extract write harbour ./out",
    )
    made.set_defaults(command=extracts.list_all)
    actions = made.add_subparsers(metavar="ACTION")
    own = argparse.ArgumentParser(add_help=False)
    for name, about in (("--url", "address of the service"), ("--token", "bearer token")):
        own.add_argument(name, help=about, default=argparse.SUPPRESS)
    own.add_argument("--json", action="store_true", help="print JSON", default=argparse.SUPPRESS)

    write = actions.add_parser("write", parents=[own], help="write all of a feed's records as Parquet with a manifest")
    write.set_defaults(command=extracts.write)
    write.add_argument("feed")
    write.add_argument("folder", help="the folder to write to; - for an Arrow stream of one table on standard output")
    write.add_argument("--table", help="with -: the table to write")

    load = actions.add_parser("load", parents=[own], help="load an extract (idempotent)")
    load.set_defaults(command=extracts.load)
    load.add_argument("folder", help="the extract's folder, on the service's machine; - for an Arrow stream on standard input")
    load.add_argument("--into", required=True, metavar="WAREHOUSE")
    load.add_argument("--prefix", default="", help="prefix of its tables' names")
    load.add_argument("--table", help="with -: the table's name")
    load.add_argument("--key", nargs="*", default=[], help="with -: the key columns")

    removed = actions.add_parser("remove", parents=[own], help="remove an extract")
    removed.set_defaults(command=extracts.remove)
    removed.add_argument("name")
