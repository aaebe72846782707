"""files-copy: 2,000 files of 200 kB from an S3-compatible server to a folder, against the plain client with the same concurrency.

The server is a stand-in in a process of its own on the loopback. Ours also hashes each file, reads the copy back, and lists it in a
table; the baseline only downloads.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from . import one_run
from .files import basket
from .measure import child, in_turn, own_peak_mb, result

WHAT = "2,000 files of 200 kB, S3-compatible to folder"
BOUND = "at most 1.2 of the plain client with the same concurrency"
_AT_ONCE = 8


def run(quick: bool) -> dict[str, Any]:
    count = 300 if quick else 2_000
    peaks: list[float] = []
    server = subprocess.Popen(
        [sys.executable, "-m", "bench.files_copy", "serve", str(count)], stdout=subprocess.PIPE, text=True
    )
    try:
        assert server.stdout is not None
        endpoint = server.stdout.readline().strip()

        def ours() -> float:
            found = child("bench.files_copy", "ours", endpoint, str(count))
            peaks.append(found["rss_mb"])
            return float(found["seconds"])

        mine, other = in_turn(
            2 if quick else 3, ours, lambda: float(child("bench.files_copy", "by-hand", endpoint, str(count))["seconds"])
        )
    finally:
        server.kill()
    return result(mine, other, max(peaks))


def serve(count: int) -> None:
    import logging
    import random

    from moto.s3.models import s3_backends
    from moto.server import ThreadedMotoServer

    logging.getLogger("werkzeug").setLevel(logging.ERROR)
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    endpoint = "http://{}:{}".format(*server.get_host_and_port())
    client(endpoint).create_bucket(Bucket="depot")
    backend, rng = s3_backends["123456789012"]["aws"], random.Random(1)
    for number in range(count):
        backend.put_object("depot", f"photos/{number % 20:02d}/{number:05d}.png", rng.randbytes(200_000))
    print(endpoint, flush=True)
    time.sleep(3600)


def client(endpoint: str) -> Any:
    import boto3
    from botocore.config import Config

    return boto3.client(
        "s3", endpoint_url=endpoint, region_name="us-east-1", aws_access_key_id="me", aws_secret_access_key="word",
        config=Config(max_pool_connections=_AT_ONCE + 2, s3={"addressing_style": "path"}),
    )  # fmt: skip


def by_hand(endpoint: str, count: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        s3 = client(endpoint)
        began = time.perf_counter()
        keys = [
            found["Key"] for page in s3.get_paginator("list_objects_v2").paginate(Bucket="depot") for found in page["Contents"]
        ]

        def fetch(key: str) -> None:
            path = Path(name, key)
            path.parent.mkdir(parents=True, exist_ok=True)
            with open(path, "wb") as file:
                file.write(s3.get_object(Bucket="depot", Key=key)["Body"].read())

        with ThreadPoolExecutor(_AT_ONCE) as pool:
            list(pool.map(fetch, keys))
        seconds = time.perf_counter() - began
        if len(keys) != count:
            raise SystemExit(f"copied {len(keys)}")
    print(json.dumps({"seconds": seconds}))


def ours(endpoint: str, count: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        source = {
            "source": "bench",
            "type": "files",
            "url": "s3://depot",
            "endpoint": endpoint,
            "user": "me",
            "password": {"secret": "word"},
        }
        lake = json.dumps({"source": "lake", "type": "files", "path": "lake"})
        target = {"type": "sqlite", "path": "marsh.db"}
        one_run.prepared(
            folder, basket(source, target, "{table: wide, files: 'photos/**/*.png', copy: {to: lake}}", lake), {"word": "word"}
        )
        seconds = one_run.run(folder, "bench")
        if sum(1 for _ in folder.glob("files/lake/photos/*/*.png")) != count:
            raise SystemExit("not all were copied")
    print(json.dumps({"seconds": seconds, "rss_mb": own_peak_mb()}))


if __name__ == "__main__":
    if sys.argv[1] == "serve":
        serve(int(sys.argv[2]))
    else:
        (ours if sys.argv[1] == "ours" else by_hand)(sys.argv[2], int(sys.argv[3]))
