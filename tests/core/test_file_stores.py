"""Every kind of store, on a real server of its own on the loopback: listed, read, copied into."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import asyncssh
import pytest
from moto.s3.models import s3_backends

from reedbasket.contracts.store import FILES as CONTRACT_FILES
from reedbasket.contracts.store import StoreContract
from reedbasket.core.allowed_paths import Places
from reedbasket.core.errors import SourceError
from reedbasket.core.runs import RunOutcome
from reedbasket.core.runs.inspection.file_look import check_files, preview_files, suggested, survey_files
from reedbasket.core.sources.files.store import Store
from reedbasket.core.sources.files.stores.open import open_store
from reedbasket.core.sources.files.stores.s3.store import S3Store
from tests.support.certificates import Authority
from tests.support.feeds import SECRETS, order_for, run_context_for, run_once, table_rows
from tests.support.stores import crate, ftp, local, s3, sftp, web

pytestmark = pytest.mark.slow

FILES = {"a/1.csv": b"k,v\n1,x\n", "a/b/2.csv": b"k,v\n2,y\n", "top.csv": b"k,v\n3,z\n", "p/one.png": bytes(range(256)) * 2000}
FEED = """
---
warehouse: marsh
type: sqlite
path: marsh.db
---
feed: test
from: test
into: marsh
changes: {{by: files, stable_for: 0s}}
tables:
  - {{table: rows, files: {pattern}}}
{more}"""


SERVERS: dict[str, Callable[[Path], Any]] = {"folder": local, "s3": s3, "sftp": sftp, "ftp": ftp, "http": web, "crate": crate}


@pytest.fixture
def there(tmp_path: Path) -> Iterator[Path]:
    SECRETS["word"] = "pass word/+="
    for path, content in FILES.items():
        whole = tmp_path / "there" / path
        whole.parent.mkdir(parents=True, exist_ok=True)
        whole.write_bytes(content)
    (tmp_path / "data").mkdir()
    yield tmp_path / "there"
    SECRETS.pop("word", None)


def source_of(text: str) -> str:
    return f"source: test\ntype: files\n{text}"


class Served:
    """One kind of store, full of the contract's files."""

    def __init__(self, kind: str, place: str, folder: Path) -> None:
        self.lists = self.writes = kind != "http"
        self._place, self._folder = place, folder

    def open(self) -> Store:
        return opened(self._place, self._folder)


class TestEveryStore(StoreContract):
    """The contract of stores over every kind, a toy's among them."""

    @pytest.fixture(params=list(SERVERS))
    def stored(self, request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Served]:
        monkeypatch.setitem(SECRETS, "word", "pass word/+=")
        for path, content in CONTRACT_FILES.items():
            whole = tmp_path / "there" / path
            whole.parent.mkdir(parents=True, exist_ok=True)
            whole.write_bytes(content)
        with SERVERS[request.param](tmp_path / "there") as place:
            yield Served(request.param, place, tmp_path / "data")


@pytest.mark.parametrize("kind", list(SERVERS))
def test_a_store_lists_reads_and_sees_what_changed(kind: str, there: Path, tmp_path: Path) -> None:
    pattern = "'**/*.csv'" if kind != "http" else "[a/1.csv, a/b/2.csv, top.csv]"
    with SERVERS[kind](there) as place:
        text = source_of(place) + FEED.format(pattern=pattern, more="")
        result, _ = run_once(text, tmp_path / "data")
        assert result.outcome == RunOutcome.SUCCEEDED, result.error
        assert sorted((r["k"], r["v"]) for r in table_rows(tmp_path / "data", "rows")) == [(1, "x"), (2, "y"), (3, "z")]
        _, heard = run_once(text, tmp_path / "data")
        assert heard.ledger == [] and not [seen for seen in heard.requests if seen.method == "FILE"]
        order = order_for(text)
        steps = check_files(order, run_context_for(order, tmp_path / "data"), [order])
        assert all(step.ok for step in steps), steps
        previewed = preview_files(order, run_context_for(order, tmp_path / "data"), "a/1.csv", 5)
        assert previewed.rows == [[1, "x"]] and "delimiter comma" in previewed.note
        if kind != "http":
            found = survey_files(order, run_context_for(order, tmp_path / "data"), ["a/*"], [])
            assert [(t.table, t.total) for t in found] == [("a/1.csv", 1), ("a/b/2.csv", 1)]


@pytest.mark.parametrize("kind", ["s3", "sftp", "ftp", "folder", "crate"])
def test_files_are_copied_as_they_are(kind: str, there: Path, tmp_path: Path) -> None:
    """From each store to a folder, and from a folder into each."""
    with SERVERS[kind](there) as place:
        other = "\n---\nsource: lake\ntype: files\npath: lake"
        tables = "  - {table: pictures, files: 'p/<name>.png', copy: {to: lake, under: kept}}\n"
        text = source_of(place) + other + FEED.format(pattern="top.csv", more=tables)
        result, heard = run_once(text, tmp_path / "data")
        assert result.outcome == RunOutcome.SUCCEEDED, result.error
        made = table_rows(tmp_path / "data", "pictures")[0]
        assert (made["path"], made["size"], made["name"]) == ("p/one.png", 512_000, "one")
        assert made["sha256"] == hashlib.sha256(FILES["p/one.png"]).hexdigest()
        assert (tmp_path / "data/lake/kept/p/one.png").read_bytes() == FILES["p/one.png"]
        _, heard = run_once(text, tmp_path / "data")
        assert heard.ledger == []
        back = f"\n---\nsource: back\ntype: files\n{place}"
        tables = "  - {table: again, files: 'kept/**/*.png', copy: {to: back, under: n/m}}\n"
        text = source_of("path: lake") + back + FEED.format(pattern="none.csv", more=tables)
        result, _ = run_once(text, tmp_path / "data")
        assert result.outcome == RunOutcome.SUCCEEDED, result.error
        store = opened(place, tmp_path / "data")
        assert [i.path for i in store.list("n")] == ["n/m/kept/p/one.png"]
        assert store.open("n/m/kept/p/one.png").read() == FILES["p/one.png"]
        store.close()


def test_an_ftp_server_without_mlsd_is_read_by_list_size_and_mdtm(there: Path, tmp_path: Path) -> None:
    listed = []
    for old in (False, True):
        with ftp(there, old=old) as place:
            store = opened(place, tmp_path)
            listed.append(sorted((info.path, info.size, info.modified) for info in store.list("")))
            store.close()
    assert listed[0] == listed[1] and len(listed[0]) == len(FILES)


def test_ftp_with_tls_is_verified(there: Path, tmp_path: Path) -> None:
    with ftp(there, tls=tmp_path / "tls") as place:
        text = source_of(place) + FEED.format(pattern="'*.csv'", more="")
        result, _ = run_once(text, tmp_path / "data")
        assert result.outcome == RunOutcome.SUCCEEDED, result.error
        (tmp_path / "other").mkdir()
        Authority(tmp_path / "other", "others")
        others = text.replace(str(tmp_path / "tls/us.pem"), str(tmp_path / "other/others.pem"))
        result, _ = run_once(others, tmp_path / "data")
        assert result.error and result.error["code"] == "source.credentials_refused" and "TLS" in result.error["found"]


@pytest.mark.parametrize("kind", ["s3", "sftp", "ftp"])
def test_who_is_not_let_in_is_told(kind: str, there: Path, tmp_path: Path) -> None:
    with SERVERS[kind](there) as place:
        SECRETS["wrong"] = "not the word"
        text = source_of(place.replace("secret: word", "secret: wrong")) + FEED.format(pattern="'*.csv'", more="")
        if kind == "s3":  # the stand-in lets everybody in; a bucket that is not there is refused in the same way
            text = text.replace("s3://depot/in", "s3://nowhere/in")
        result, heard = run_once(text, tmp_path / "data")
        assert result.error and result.error["code"] == "source.credentials_refused", result.error
        assert "not the word" not in str(result.error) + str(heard.lines)


def test_a_server_with_another_key_is_not_spoken_to(there: Path, tmp_path: Path) -> None:
    with sftp(there) as place:
        other = asyncssh.generate_private_key("ssh-ed25519").export_public_key().decode().strip()
        before, _, _ = place.rpartition("host_key: ")
        for text, words in ((f"{before}host_key: {other}", "different key"), (before, "not known")):
            with pytest.raises(SourceError, match=words) as refused:
                opened(text, tmp_path)
            assert refused.value.code == "source.host_not_trusted"
        with pytest.raises(SourceError, match="a password or a key") as nobody:
            opened(place.replace("password: {secret: word}", ""), tmp_path)
        assert nobody.value.code == "source.no_credentials"


def test_a_key_in_place_of_a_password_and_nobody_at_all(there: Path, tmp_path: Path) -> None:
    ours = asyncssh.generate_private_key("ssh-ed25519")
    SECRETS["our key"], SECRETS["our public key"] = ours.export_private_key().decode(), ours.export_public_key().decode()
    with sftp(there) as place:
        store = opened(
            place.replace("password: {secret: word}", "key: {secret: our-key}"), tmp_path, {"our-key": SECRETS["our key"]}
        )
        assert [info.path for info in store.list("a")] == ["a/1.csv", "a/b/2.csv"]
        store.close()
    with s3(there) as place:
        store = opened(
            "\n".join(line for line in place.splitlines() if "me" not in line.split() and "word" not in line), tmp_path
        )
        assert store.open("top.csv").read() == FILES["top.csv"]
        store.close()


def opened(place: str, folder: Path, more: dict[str, str] | None = None) -> Store:
    found = order_for(source_of(place) + FEED.format(pattern="x", more="")).files
    assert found is not None
    return open_store(found, lambda name: {**SECRETS, **(more or {})}[name], Places.anywhere(folder))


def test_thousands_of_objects_are_listed_by_pages(there: Path, tmp_path: Path) -> None:
    with s3(there) as place:
        bucket = s3_backends["123456789012"]["aws"]
        for number in range(2_100):
            bucket.put_object("depot", f"in/p/{number:05d}.bin", b"x")
        store = opened(place, tmp_path)
        listed = list(store.list("p"))
        store.close()
    assert len(listed) == 2_101 and listed[0].tag and listed[0].modified is not None


def test_an_object_put_in_place_of_another_after_it_was_listed_is_taken_once(
    there: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with s3(there) as place:
        text = source_of(place) + FEED.format(pattern="top.csv", more="").replace("stable_for: 0s", "changed: append")
        opens = S3Store.open

        def late(store: S3Store, path: str) -> Any:
            monkeypatch.setattr(S3Store, "open", opens)
            s3_backends["123456789012"]["aws"].put_object("depot", f"in/{path}", b"k,v\n4,other\n")
            return opens(store, path)

        monkeypatch.setattr(S3Store, "open", late)
        for run in (1, 2):
            result, _ = run_once(text, tmp_path / "data", run=run)
            assert result.outcome == RunOutcome.SUCCEEDED, result.error
            assert [(row["k"], row["v"]) for row in table_rows(tmp_path / "data", "rows")] == [(4, "other")]


def test_a_link_that_leads_back_is_gone_through_once(there: Path, tmp_path: Path) -> None:
    (there / "a/b/round").symlink_to(there / "a")
    (there / "a/aside").symlink_to(there / "p")
    (there / "a/itself").symlink_to(there / "a/itself")
    (there / "a/nowhere").symlink_to(there / "gone.csv")
    assert [info.path for info in opened(f"path: {there}", tmp_path).list("")] == [
        "a/1.csv", "a/aside/one.png", "a/b/2.csv", "p/one.png", "top.csv",
    ]  # fmt: skip


def test_a_name_that_leads_out_of_the_folder_is_not_followed(there: Path, tmp_path: Path) -> None:
    with s3(there) as place:
        s3_backends["123456789012"]["aws"].put_object("depot", "in/p/../../../out.png", b"x")
        tables = "  - {table: pictures, files: ['**/*.png', 'p/.*/.*/.*/*.png'], copy: {to: lake}}\n"
        text = source_of(place) + "\n---\nsource: lake\ntype: files\npath: deep/lake" + FEED.format(pattern="none", more=tables)
        result, _ = run_once(text, tmp_path / "data")
    assert result.error and result.error["code"] == "file.unreadable" and "lead out" in result.error["found"]
    found = [str(p.relative_to(tmp_path)) for p in tmp_path.rglob("*.png")]
    assert sorted(found) == ["data/deep/lake/p/one.png", "there/p/one.png"]


def test_a_pattern_is_suggested_for_files_that_differ_in_times_and_folders() -> None:
    assert suggested(["osier/c-2026030106.gz", "tansy/c-2026030107.gz"]) == "*/c-<hour:%Y%m%d%H>.gz"
    assert suggested(["in/fuel-2026-02.csv", "in/fuel-2026-03.csv"]) == "in/fuel-<month:%Y-%m>.csv"
    assert suggested(["a/1.csv", "a/22.csv"]) == "a/*.csv" and suggested(["a/99999999.csv"]) == "a/99999999.csv"
