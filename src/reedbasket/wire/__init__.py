"""The shapes of API answers. The service's OpenAPI document and the console's types are made from them.

Times are RFC 3339 text in UTC. Imports nothing of ours; the client only needs it for type checking.
"""

from .access import ErrorFacts, Health, Problem, SecretName, Session, SignInCode
from .definitions import Applied, Definition
from .feeds import (
    Again,
    Drift,
    Feed,
    FileLine,
    Plan,
    PlannedColumn,
    PlannedDrift,
    PlannedTable,
    Reject,
    VerifiedSample,
    VerifiedTable,
)
from .runs import LedgerLine, LogLine, Outcome, RequestLine, Run, TableProgress, Totals
from .sources import Exchange, Method, Peek, SentThere, SetupStatement, Source, SurveyedColumn, SurveyedTable
from .warehouses import CheckStep, Column, ColumnProfile, Profile, Rows, Table, Warehouse

__all__ = [
    "Again",
    "Applied",
    "CheckStep",
    "Column",
    "ColumnProfile",
    "Definition",
    "Drift",
    "ErrorFacts",
    "Exchange",
    "Feed",
    "FileLine",
    "Health",
    "LedgerLine",
    "LogLine",
    "Method",
    "Outcome",
    "Peek",
    "Plan",
    "PlannedColumn",
    "PlannedDrift",
    "PlannedTable",
    "Problem",
    "Profile",
    "Reject",
    "RequestLine",
    "Rows",
    "Run",
    "SecretName",
    "SentThere",
    "Session",
    "SetupStatement",
    "SignInCode",
    "Source",
    "SurveyedColumn",
    "SurveyedTable",
    "Table",
    "TableProgress",
    "Totals",
    "VerifiedSample",
    "VerifiedTable",
    "Warehouse",
]
