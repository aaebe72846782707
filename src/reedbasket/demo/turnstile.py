"""What the landings send as files: hourly counts of the turnstiles, fuel prices, visits by month, photos of hulls."""

from __future__ import annotations

import gzip
import json
import os
import random
import struct
import threading
import time
import zlib
from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq

from .ferries import LANDINGS, SEED, VESSELS

HOURS = 48
BUCKET = "sedge-depot"
_FUELS = ("diesel", "petrol", "biodiesel")


def make_turnstile(folder: Path, now: datetime | None = None) -> None:
    """A folder of counts and prices, and one below it, `depot`, with what the depot keeps: visits by month, and photos."""
    now = (now or datetime.now(UTC)).replace(minute=0, second=0, microsecond=0)
    rng = random.Random(SEED)
    for landing in LANDINGS:
        for back in range(HOURS, 0, -1):
            hour = now - timedelta(hours=back)
            _write(folder / landing / counts_name(hour), counts(landing, hour, rng), hour + timedelta(hours=1, minutes=2))
    for back in (2, 1, 0):
        month = (now.replace(day=1) - timedelta(days=28 * back)).replace(day=1)
        _write(folder / "prices" / f"fuel-{month:%Y-%m}.csv", prices(month, rng), month + timedelta(days=1))
    depot = folder / "depot"
    for back in (3, 2, 1):
        month = (now.replace(day=1) - timedelta(days=28 * back)).replace(day=1)
        path = depot / "visits" / f"visits-{month:%Y-%m}.parquet"
        path.parent.mkdir(parents=True, exist_ok=True)
        pq.write_table(visits(month, rng), path)
        _touch(path, month + timedelta(days=31))
    for vessel in VESSELS[:6]:
        for number in range(1, 5):
            _write(depot / "photos" / vessel / f"hull-{number:02d}.png", photo(rng), now - timedelta(days=number * 9))


def counts_name(hour: datetime) -> str:
    """The file of one hour."""
    return f"counts-{hour:%Y%m%d%H}.ndjson.gz"


def counts(landing: str, hour: datetime, rng: random.Random) -> bytes:
    """Every five minutes, by gate."""
    busy = 14 if 6 <= hour.hour <= 20 else 2
    lines = [
        json.dumps({"at": (hour + timedelta(minutes=m)).isoformat().replace("+00:00", "Z"), "gate": gate,
                    "in": rng.randint(0, busy), "out": rng.randint(0, busy)})
        for m in range(0, 60, 5) for gate in ("north", "south")
    ]  # fmt: skip
    return gzip.compress("\n".join(lines).encode() + b"\n", mtime=0)


def prices(month: datetime, rng: random.Random) -> bytes:
    """As the supplier's spreadsheet writes them: semicolons, decimal commas."""
    rows = ["day;fuel;price_litre;taken_litres"]
    for day in range(1, 29):
        for fuel in _FUELS:
            price = f"{rng.uniform(1.2, 1.9):.3f}".replace(".", ",")
            rows.append(f"{month.replace(day=day):%Y-%m-%d};{fuel};{price};{rng.randint(0, 900)}")
    return "\r\n".join([*rows, ""]).encode()


def visits(month: datetime, rng: random.Random) -> pa.Table:
    """A month's visits, a row for each day and landing."""
    days = [month.replace(day=day).date() for day in range(1, 29) for _ in LANDINGS]
    landings = LANDINGS * 28
    return pa.table(
        {"day": pa.array(days, pa.date32()), "landing": landings, "visitors": [rng.randint(20, 900) for _ in days],
         "bicycles": [rng.randint(0, 90) for _ in days]}
    )  # fmt: skip


def photo(rng: random.Random) -> bytes:
    """A small picture of water and a hull, as PNG (RFC 2083)."""
    width, height, line = 96, 64, rng.randint(24, 44)
    paint = (rng.randint(40, 120), rng.randint(60, 120), rng.randint(40, 90))
    rows = []
    for y in range(height):
        row = bytearray([0])
        for x in range(width):
            hull = abs(x - width // 2) < 40 - max(0, y - line // 2) and line // 2 < y < line
            row += bytes(paint if hull else (150 + rng.randint(0, 30), 175 + y // 2, 190 if y > line else 215))
        rows.append(bytes(row))

    def part(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    header = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + part(b"IHDR", header) + part(b"IDAT", zlib.compress(b"".join(rows))) + part(b"IEND", b"")


def serve_depot(folder: Path) -> str | None:
    """The depot's files on an S3-compatible server, with its address; None where the package for that is not installed."""
    try:
        from moto.server import ThreadedMotoServer
    except ImportError:
        return None
    import logging

    import boto3

    logging.getLogger("werkzeug").setLevel(logging.ERROR)
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    client = boto3.client(
        "s3",
        endpoint_url=f"http://{host}:{port}",
        region_name="us-east-1",
        aws_access_key_id="depot",
        aws_secret_access_key="depot",
    )
    client.create_bucket(Bucket=BUCKET)
    for path in sorted(folder.rglob("*")):
        if path.is_file():
            client.put_object(Bucket=BUCKET, Key=path.relative_to(folder).as_posix(), Body=path.read_bytes())
    return f"s3://{host}:{port}"


def happenings(folder: Path) -> Mapping[str, Callable[[], str]]:
    """What the landings do, by name."""
    rng = random.Random()

    def next_counts(landing: str) -> Path:
        last = max((folder / landing).glob("counts-*.ndjson.gz")).name
        hour = datetime.strptime(last[7:17], "%Y%m%d%H").replace(tzinfo=UTC) + timedelta(hours=1)
        return folder / landing / counts_name(hour)

    def arrives() -> str:
        path = next_counts(rng.choice(LANDINGS))
        hour = datetime.strptime(path.name[7:17], "%Y%m%d%H").replace(tzinfo=UTC)
        content = counts(path.parent.name, hour, rng)

        def write_slowly() -> None:
            with open(path, "wb") as file:
                for start in range(0, len(content), 64):
                    file.write(content[start : start + 64])
                    file.flush()
                    time.sleep(3 * 64 / len(content))

        threading.Thread(target=write_slowly, daemon=True).start()
        return f"{path.relative_to(folder)} is being written for three seconds; a run loads it once it has not changed for five"

    def corrected() -> str:
        path = rng.choice(sorted(folder.glob("*/counts-*.ndjson.gz")))
        hour = datetime.strptime(path.name[7:17], "%Y%m%d%H").replace(tzinfo=UTC)
        path.write_bytes(counts(path.parent.name, hour, rng))
        return f"{path.relative_to(folder)} was replaced, with other counts: its 24 rows are replaced"

    def damaged() -> str:
        path = next_counts(rng.choice(LANDINGS))
        hour = datetime.strptime(path.name[7:17], "%Y%m%d%H").replace(tzinfo=UTC)
        path.write_bytes(counts(path.parent.name, hour, rng)[:-40])
        return f"{path.relative_to(folder)} arrived incomplete: the run says so, and loads all others"

    return {"file_arrives": arrives, "file_corrected": corrected, "file_damaged": damaged}


def _write(path: Path, content: bytes, at: datetime) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(content)
    _touch(path, at)


def _touch(path: Path, at: datetime) -> None:
    os.utime(path, (at.timestamp(), min(at, datetime.now(UTC) - timedelta(minutes=1)).timestamp()))
