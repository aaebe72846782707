"""What all file stores have in common."""

from __future__ import annotations

import io
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from typing import Any, Protocol

import pytest

from ..core.errors import SourceError
from ..core.sources.files.store import Store

FILES = {
    "a/1.csv": b"k,v\n1,x\n",
    "a/b/2.csv": b"k,v\n2,y\n",
    "a/b c/\u00fc.csv": b"",
    "ab/3.csv": b"k,v\n",
    "top.csv": b"k,v\n3,z\n",
    "p/one.png": bytes(range(256)) * 2000,
}


class FilledStore(Protocol):
    """A store that holds `FILES`.

    Attributes:
        lists: it can list its files.
        writes: files can be written to it.
    """

    lists: bool
    writes: bool

    def open(self) -> Store:
        """The store, as a run opens it."""


class _Breaks(io.RawIOBase):
    """Content that ends in an error."""

    def readable(self) -> bool:
        return True

    def readinto(self, room: Any) -> int:
        raise OSError("the other store went away")


class StoreContract:
    """The tests need a fixture `stored`, made anew for each."""

    @pytest.fixture
    def store(self, stored: FilledStore) -> Iterator[Store]:
        with closing(stored.open()) as opened:
            yield opened

    def test_every_file_is_listed_once_with_its_size(self, stored: FilledStore, store: Store) -> None:
        if not stored.lists:
            with pytest.raises(SourceError):
                list(store.list(""))
            return
        found = {info.path: info for info in store.list("")}
        assert {path: info.size for path, info in found.items()} == {path: len(content) for path, content in FILES.items()}
        assert all(info.modified is None or info.modified.tzinfo is not None for info in found.values())

    def test_a_folder_is_listed_alone_and_one_that_is_not_there_is_empty(self, stored: FilledStore, store: Store) -> None:
        if stored.lists:
            assert sorted(info.path for info in store.list("a")) == sorted(path for path in FILES if path.startswith("a/"))
            assert list(store.list("nowhere")) == []

    def test_one_file_is_told_as_it_is_listed(self, stored: FilledStore, store: Store) -> None:
        told = store.info("a/b/2.csv")
        assert told is not None and told.size in (len(FILES["a/b/2.csv"]), -1)
        assert store.info("a/none.csv") is None and store.info("none/none.csv") is None
        if stored.lists:
            (listed,) = (info for info in store.list("a/b") if info.path == told.path)
            assert told.same_as(listed)

    def test_a_file_is_read_whole_and_in_parts(self, store: Store) -> None:
        for path, content in FILES.items():
            with closing(store.open(path)) as opened:
                assert opened.read() == content
        with closing(store.open("p/one.png")) as opened:
            parts = []
            while part := opened.read(70_000):
                parts.append(part)
        assert b"".join(parts) == FILES["p/one.png"]

    def test_a_file_that_is_not_there_is_gone(self, store: Store) -> None:
        with pytest.raises(SourceError) as gone:
            store.open("a/none.csv").read()
        assert gone.value.code == "file.missing"

    def test_as_many_may_read_at_once_as_it_says(self, store: Store) -> None:
        def read(path: str) -> bytes:
            with closing(store.open(path)) as opened:
                found: bytes = opened.read()
                return found

        with ThreadPoolExecutor(store.concurrency) as pool:
            assert list(pool.map(read, list(FILES) * 3)) == list(FILES.values()) * 3

    def test_what_is_put_is_there_whole(self, stored: FilledStore, store: Store) -> None:
        content = b"new" * 300_000
        if not stored.writes:
            with pytest.raises(SourceError) as refused:
                store.put("n/new.bin", io.BytesIO(content), len(content))
            assert refused.value.code == "source.read_only"
            return
        before = store.info("top.csv")
        for path in ("n/m/new.bin", "top.csv"):
            store.put(path, io.BytesIO(content), len(content))
            assert store.open(path).read() == content
        after = store.info("top.csv")
        assert before is not None and after is not None and not after.same_as(before)

    def test_what_could_not_be_written_whole_is_not_there(self, stored: FilledStore, store: Store) -> None:
        if not stored.writes:
            return
        for path in ("n/broken.bin", "top.csv"):
            with pytest.raises((SourceError, OSError)):
                store.put(path, io.BufferedReader(_Breaks()), 1_000_000)
        assert store.info("n/broken.bin") is None
        assert store.open("top.csv").read() == FILES["top.csv"]
        assert sorted(info.path for info in store.list("")) == sorted(FILES)
