"""Everything that inspections need, imported once, in the process that theirs are forked from."""

from __future__ import annotations

import duckdb
import psycopg
import pymysql

from . import definitions, drafts, feeds, openid, sources, warehouses

__all__ = ["definitions", "drafts", "duckdb", "feeds", "openid", "psycopg", "pymysql", "sources", "warehouses"]
