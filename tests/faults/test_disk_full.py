"""No space left: told as that, nothing half written, and the same load goes through once there is room."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from reedbasket.contracts.place import Loader
from reedbasket.core.errors import WarehouseError
from tests.support.warehouses import ENGINES, Cluster, Place

RECORDS = [{"id": n, "text": f"{n:06d}" * 40} for n in range(4000)]


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A disk of 12 MB of its own."""
    folder = tmp_path / "small"
    folder.mkdir()
    mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=12m", "tmpfs", str(folder)], capture_output=True, text=True)
    if mounted.returncode:
        pytest.skip(f"no disk can be mounted here: {mounted.stderr.strip()}")
    yield folder
    subprocess.run(["umount", "--lazy", str(folder)], check=True)


@pytest.fixture
def place(request: pytest.FixtureRequest, small_disk: Path) -> Iterator[Place]:
    engine: str = request.param
    if engine != "postgres":
        yield Place(engine, small_disk, None)
        return
    cluster = Cluster()
    try:
        made = Place(engine, small_disk, cluster)
        (small_disk / "tables").mkdir()
        shutil.chown(small_disk / "tables", "postgres", "postgres")
        small_disk.chmod(0o755)
        for parent in small_disk.parents:
            if parent == Path(tempfile.gettempdir()):
                break
            parent.chmod(0o755)
        made.do(f"create tablespace small location '{small_disk / 'tables'}'")
        made.do("alter role boss set default_tablespace = 'small'")
        made.do("alter role boss set temp_tablespaces = 'small'")
        yield made
    finally:
        cluster.stop()


# MariaDB ends where its disk is full: see test_mysql.
@pytest.mark.parametrize("place", [engine for engine in ENGINES if engine != "mysql"], indirect=True)
def test_a_load_that_does_not_fit(place: Place, small_disk: Path) -> None:
    loader = Loader(place)
    loader.load(RECORDS[:100], batch=2000)
    before = place.ask("select count(*), max(_rb_ledger_line) from things"), place.ask("select count(*) from _rb_ledger")
    filler = small_disk / "filler"
    filler.write_bytes(b"\0" * (shutil.disk_usage(small_disk).free - 400_000))
    with pytest.raises(WarehouseError) as caught:
        loader.load([{**r, "text": r["text"][::-1]} for r in RECORDS], batch=2000)
    assert caught.value.code == "warehouse.full"
    assert "no space left" in caught.value.found or "disk is full" in caught.value.found
    filler.unlink()
    assert (
        place.ask("select count(*), max(_rb_ledger_line) from things"),
        place.ask("select count(*) from _rb_ledger"),
    ) == before
    assert loader.load(RECORDS, batch=2000)[0].inserted == 3900
    assert place.ask("select count(*), count(distinct text) from things") == [(4000, 4000)]


@pytest.mark.parametrize("place", ["sqlite", "duckdb"], indirect=True)
def test_a_file_that_there_is_no_room_to_make(place: Place, small_disk: Path) -> None:
    (small_disk / "filler").write_bytes(b"\0" * (shutil.disk_usage(small_disk).free - 8192))
    with pytest.raises(WarehouseError) as caught:
        Loader(place).load(RECORDS[:5])
    assert caught.value.code == "warehouse.full"
    (small_disk / "filler").unlink()
    assert Loader(place).load(RECORDS[:5])[0].inserted == 5
    assert [path.name for path in small_disk.iterdir() if path.is_file()] == [f"marsh.{place.engine}"]
