"""connector and bundle with their actions: commands about folders of their own."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from . import bundles, connectors


def connectors_to(add: Callable[..., argparse.ArgumentParser]) -> None:
    """The commands of `reed connector`."""
    made = add(
        "connector",
        connectors.new,
        "make, try and check connectors; no service is needed",
        "reed connector new lockers --python",
        local=True,
    )
    actions = made.add_subparsers(metavar="ACTION", required=True)

    new = actions.add_parser("new", help="make a folder to begin with: definition, source, test, README")
    new.set_defaults(command=connectors.new)
    new.add_argument("name")
    kind = new.add_mutually_exclusive_group()
    kind.add_argument("--python", action="store_true", help="a Python class; else a declaration")
    kind.add_argument(
        "--like",
        metavar="EXAMPLE",
        help="one that ships, with its recorded answers: atom, graphql, oai_pmh, odata, prometheus, rabbitmq, sdmx",
    )
    new.add_argument("--folder", help="where; else a folder of its name")

    attempt = actions.add_parser("try", help="run it into a scratch warehouse: ten rows and a profile of each table")
    attempt.set_defaults(command=connectors.attempt)
    check = actions.add_parser("check", help="prove what every connector promises")
    check.set_defaults(command=connectors.check)
    for one in (attempt, check):
        one.add_argument("folder", help="of its definitions, one source among them")
        one.add_argument("tables", nargs="*", help="these alone")
        one.add_argument("--source", help="which of several")
        how = one.add_mutually_exclusive_group()
        how.add_argument(
            "--record", action="store_true", help="keep what the API answers in the folder's `answers`, secrets blanked"
        )
        how.add_argument("--replay", action="store_true", help="take what was recorded in place of the API")
    attempt.add_argument("--rows", type=int, default=10, help="rows shown of each table (10)")
    attempt.add_argument("--into", choices=["duckdb", "db"], default="duckdb", help="the scratch file: DuckDB, or SQLite (db)")
    attempt.add_argument("--again", action="store_true", help="from the beginning, in place of what is new")
    attempt.add_argument("--watch", action="store_true", help="again with every save")
    check.add_argument("--form", choices=["text", "json", "junit"], default="text", help="of the report")
    check.add_argument("--to-file", metavar="FILE", help="where the report goes")


def bundles_to(add: Callable[..., argparse.ArgumentParser]) -> None:
    """The commands of `reed bundle`."""
    made = add(
        "bundle", bundles.list_all, "records as open files: written once, loaded anywhere", "reed bundle write harbour ./out"
    )
    made.set_defaults(command=bundles.list_all)
    actions = made.add_subparsers(metavar="ACTION")
    own = argparse.ArgumentParser(add_help=False)
    for name, about in (("--url", "address of the service"), ("--token", "bearer token")):
        own.add_argument(name, help=about, default=argparse.SUPPRESS)
    own.add_argument("--json", action="store_true", help="print JSON", default=argparse.SUPPRESS)

    write = actions.add_parser("write", parents=[own], help="a feed's records, all of them, as Parquet with a manifest")
    write.set_defaults(command=bundles.write)
    write.add_argument("feed")
    write.add_argument("folder", help="where the files go; - for an Arrow stream of one table on standard output")
    write.add_argument("--table", help="of -: which")

    load = actions.add_parser("load", parents=[own], help="load one; again, and nothing is there twice")
    load.set_defaults(command=bundles.load)
    load.add_argument("folder", help="of a bundle, on the service's machine; - for an Arrow stream from standard input")
    load.add_argument("--into", required=True, metavar="WAREHOUSE")
    load.add_argument("--prefix", default="", help="before the names of its tables")
    load.add_argument("--table", help="of -: what it is called")
    load.add_argument("--key", nargs="*", default=[], help="of -: the columns that tell a row")

    listed = actions.add_parser("list", parents=[own], help="those that the service keeps")
    listed.set_defaults(command=bundles.list_all)
    removed = actions.add_parser("remove", parents=[own], help="let one go")
    removed.set_defaults(command=bundles.remove)
    removed.add_argument("name")
