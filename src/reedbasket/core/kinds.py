"""The registry of kinds: sources, warehouses, file stores, file formats and page styles. Nothing else names one.

A kind is a package or a module, and a line here. Other packages add theirs by entry points (`reedbasket.sources`, `reedbasket.warehouses`,
`reedbasket.stores`, `reedbasket.formats`, `reedbasket.pages`), which give the kind's name and the module that has its `KIND`. A kind is
imported when it is first needed, and its driver when something is opened.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from importlib import import_module
from importlib.metadata import entry_points
from typing import Any, Generic, TypeVar

from .errors import ReedError

K = TypeVar("K")


class DriverMissing(ReedError):
    """The library that a kind needs is not installed."""

    code = "driver.missing"


def load(module: str, extra: str) -> Any:
    """Import the part of a kind that imports its driver.

    Args:
        module: its name.
        extra: of this package, that installs the driver; '' if none does.

    Raises:
        DriverMissing: the driver is not installed.
    """
    try:
        return import_module(module)
    except ModuleNotFoundError as error:
        if not extra or (error.name or "").startswith("reedbasket"):
            raise
        raise DriverMissing(
            "loading the driver of", extra, found=f"the package {error.name} is not installed",
            fix=f"pip install 'reedbasket[{extra}]', then start the service again",
        ) from error  # fmt: skip


@dataclass(frozen=True)
class WarehouseKind:
    """What is known about a kind of warehouse before one is opened.

    Attributes:
        title: as people call it.
        definition: the model of its definition, a `spec.warehouse.Warehouse`.
        module: has `open_from(definition, places, reveal)`, and imports the driver.
        extra: of this package, that installs the driver; '' if none is needed.
    """

    title: str
    definition: type[Any]
    module: str
    extra: str = ""


@dataclass(frozen=True)
class SourceKind:
    """What is known about a kind of source before one is opened.

    Attributes:
        title: as people call it.
        definition: the model of its definition, a `spec.source.Source`.
        module: for a database, has `open_from(source, password, places, stop)`, and imports the driver.
        setup: for a database, has `STEPS`, `check` and `setup_statements`, for whoever grants access.
        extra: of this package, that installs the driver; '' if none is needed.
    """

    title: str
    definition: type[Any]
    module: str
    setup: str = ""
    extra: str = ""


@dataclass(frozen=True)
class StoreKind:
    """What is known about a kind of file store before one is opened.

    Attributes:
        module: has `open_from(source, reveal, places)`, and imports the library.
        keys: of the source's definition, besides `path` or `url`.
        port: the server's usual one; None if the address names no server.
        lists: it can list its files; otherwise each has to be named.
        writes: files can be copied into it.
        extra: of this package, that installs the library; '' if none is needed.
    """

    module: str
    keys: tuple[str, ...]
    port: int | None
    lists: bool = True
    writes: bool = True
    extra: str = ""


@dataclass(frozen=True)
class FormatKind:
    """What is known about a file format before a file is read.

    Attributes:
        reader: `module:Class` of its `sources.files.formats.reading.FormatReader`.
        options: the model of its options, a `spec.files.FileFormat`.
        endings: of file names that identify it, in lower case.
        flat: its records are expected to hold no objects or lists; a file that turns out otherwise is read again.
        whole: a file is read from a place that can be sought in, not as it arrives.
        zipped: such a file is itself a zip archive, and not an archive of files.
        extra: of this package, that installs the library; '' if none is needed.
    """

    reader: str
    options: type[Any]
    endings: tuple[str, ...] = ()
    flat: bool = False
    whole: bool = False
    zipped: bool = False
    extra: str = ""


@dataclass(frozen=True)
class PageStyle:
    """What is known about a way to request one page after another.

    Attributes:
        rule: the model of its rule, a `spec.pagination.Pagination`; its `begin` goes through the pages.
    """

    rule: type[Any]


class Registry(Generic[K]):
    """Kinds by name."""

    def __init__(self, group: str, shipped: Mapping[str, str]) -> None:
        """Prepare; nothing is imported yet.

        Args:
            group: of entry points, for kinds of other packages.
            shipped: {name: the module that has its `KIND`, or `module:NAME`}.
        """
        self._group = group
        self._shipped = shipped

    def names(self) -> list[str]:
        """The names of all installed kinds, sorted."""
        return sorted({*self._shipped, *self._installed})

    @cached_property
    def _installed(self) -> Mapping[str, str]:
        """Kinds of other packages, looked up once in a process, because that reads the entry points of everything installed."""
        return {found.name: found.value for found in entry_points(group=self._group)}

    def find(self, name: str) -> K | None:
        """A kind; None if none of that name is installed."""
        at = self._shipped.get(name) or self._installed.get(name)
        if at is None:
            return None
        module, _, attribute = at.partition(":")
        kind: K = getattr(import_module(module), attribute or "KIND")
        return kind

    def get(self, name: str) -> K:
        """The kind that a checked definition names.

        Raises:
            LookupError: it is no longer installed.
        """
        found = self.find(name)
        if found is None:
            raise LookupError(f"no kind {name} is installed; there are {', '.join(self.names())}")
        return found


_PACKAGE = f"{__package__}.warehouses"
_STORES = f"{__package__}.sources.files.stores"
_PAGES = f"{__package__}.sources.http.pagination"
WAREHOUSES: Registry[WarehouseKind] = Registry(
    "reedbasket.warehouses",
    {
        "duckdb": f"{_PACKAGE}.duckdb.definition",
        "mysql": f"{_PACKAGE}.mysql.definition",
        "postgres": f"{_PACKAGE}.postgres.definition",
        "sqlite": f"{_PACKAGE}.sqlite.definition",
    },
)

_FORMATS = f"{__package__}.sources.files.formats.shipped"
FORMATS: Registry[FormatKind] = Registry(
    "reedbasket.formats",
    {
        "arrow": f"{_FORMATS}:ARROW",
        "csv": f"{_FORMATS}:CSV",
        "fixed": f"{_FORMATS}:FIXED",
        "json": f"{_FORMATS}:DOCUMENT",
        "ndjson": f"{_FORMATS}:LINES",
        "parquet": f"{_FORMATS}:PARQUET",
        "xlsx": f"{_FORMATS}:SHEET",
    },
)

_SOURCES = f"{__package__}.sources"
SOURCES: Registry[SourceKind] = Registry(
    "reedbasket.sources",
    {
        "files": f"{_SOURCES}.files.definition",
        "mysql": f"{_SOURCES}.mysql.definition",
        "postgres": f"{_SOURCES}.postgres.definition",
        "sqlite": f"{_SOURCES}.sqlite.definition",
    },
)

# By what stands in `pagination.by`.
PAGE_STYLES: Registry[PageStyle] = Registry(
    "reedbasket.pages",
    {
        "keyset": f"{_PAGES}.keyset",
        "link_header": f"{_PAGES}.next_url:LINK_HEADER",
        "next_url": f"{_PAGES}.next_url:NEXT_URL",
        "offset": f"{_PAGES}.counted:OFFSET",
        "page_number": f"{_PAGES}.counted:PAGE_NUMBER",
        "page_token": f"{_PAGES}.page_token",
    },
)

FOLDER = "folder"
# By the scheme of a source's `url`; a `path` is a folder.
STORES: Registry[StoreKind] = Registry(
    "reedbasket.stores",
    {
        FOLDER: f"{_STORES}.folder",
        "ftp": f"{_STORES}.ftp",
        "ftps": f"{_STORES}.ftp:WITH_TLS",
        "http": f"{_STORES}.web",
        "https": f"{_STORES}.web:WITH_TLS",
        "s3": f"{_STORES}.s3",
        "sftp": f"{_STORES}.sftp",
    },
)
