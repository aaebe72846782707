"""The API's views, a module for each subject. Importing them declares their operations."""

from . import (
    access,
    activity,
    definitions,
    drafts,
    extracts,
    feeds,
    files,
    openid,
    runs,
    schedule,
    service,
    sources,
    warehouses,
)
from .shared import operations

__all__ = [
    "access",
    "activity",
    "definitions",
    "drafts",
    "extracts",
    "feeds",
    "files",
    "openid",
    "operations",
    "runs",
    "schedule",
    "service",
    "sources",
    "warehouses",
]
