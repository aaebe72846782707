"""A schema of its own in a private PostgreSQL, as the dock database that feeds read from."""

from __future__ import annotations

import os
from itertools import count
from typing import Any

from tests.support.warehouses import Cluster

MARSH = "warehouse: marsh\ntype: sqlite\npath: marsh.db\n---\nfeed: test\nfrom: test\ninto: marsh\n"
_numbers = count(1)


class Dock:
    """A schema of its own in the cluster; `basket` reads from it."""

    def __init__(self, cluster: Cluster) -> None:
        self.cluster = cluster
        self.schema = f"dock_{next(_numbers)}_{os.getpid()}"
        self.db = cluster.connect()
        self.do(f"create schema {self.schema}; set search_path = {self.schema}; set timezone = 'UTC'")
        self.do("drop publication if exists reed_test")

    def do(self, statement: str, *values: Any) -> Any:
        return self.db.execute(statement, values or None)

    def basket(self, feed: str, source: str = "", user: str = "boss") -> str:
        place = f"host: 127.0.0.1\nport: {self.cluster.port}\ndatabase: postgres\nuser: {user}\nschema: {self.schema}\n"
        return f"source: test\ntype: postgres\n{place}tls: {{mode: disable}}\n{source}\n---\n{MARSH}{feed}"
