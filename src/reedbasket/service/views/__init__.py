"""The API's views, a module a subject. Importing them declares their operations."""

from . import access, definitions, feeds, files, runs, schedule, service, sources, warehouses
from .shared import operations

__all__ = ["access", "definitions", "feeds", "files", "operations", "runs", "schedule", "service", "sources", "warehouses"]
