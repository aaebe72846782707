"""Files in any store with S3's protocol, by boto3."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import IO, Any
from urllib.parse import urlsplit

import boto3
from boto3.s3.transfer import TransferConfig
from botocore import UNSIGNED
from botocore.config import Config
from botocore.exceptions import BotoCoreError, ClientError, ConnectTimeoutError, ReadTimeoutError
from typing_extensions import override
from urllib3.exceptions import HTTPError

from .....allowed_paths import Places
from .....spec.file_source import FileSource
from ...problems import FileMissing, file_gone
from ...store import Body, FileInfo, Store, StoreErrors
from ..open import authority_of, password_of

_ABSENT = ("404", "NoSuchKey", "NotFound")
_REFUSED = ("401", "403", "AccessDenied", "InvalidAccessKeyId", "SignatureDoesNotMatch", "NoSuchBucket")
# Of a part of a large upload; below it one request does all.
_PART_BYTES = 16 * 1024 * 1024


class _OpenFile:
    """A file that stays open, although boto3 closes what it has sent."""

    closed = False

    def __init__(self, content: IO[bytes]) -> None:
        self.read, self.seek, self.tell = content.read, content.seek, content.tell

    def close(self) -> None:
        """Does nothing: whoever opened the file closes it."""


class S3Store(Store):
    """Objects of a bucket below a prefix."""

    grows = False
    concurrency = 8

    def __init__(self, source: FileSource, password: str | None, trust: str | None) -> None:
        """Prepare; nothing is requested yet.

        Args:
            trust: a file with the certificates to trust; None for the machine's.
        """
        parts = urlsplit(source.url or "")
        self._bucket, folder = parts.hostname or "", parts.path.strip("/")
        self._before = folder + "/" if folder else ""
        self.where = source.url or ""
        self._errors = StoreErrors(self.where)
        config = Config(
            # A store of one's own seldom has a name of its own for every bucket.
            s3={"addressing_style": "path" if source.endpoint else "auto"},
            retries={"max_attempts": 4, "mode": "standard"},
            connect_timeout=10,
            read_timeout=60,
            max_pool_connections=self.concurrency + 2,
            signature_version=UNSIGNED if source.user is None else None,
        )
        self._client: Any = boto3.client(
            "s3",
            endpoint_url=source.endpoint,
            region_name=source.region or "us-east-1",
            aws_access_key_id=source.user,
            aws_secret_access_key=password,
            verify=trust or True,
            config=config,
        )

    @override
    def list(self, under: str) -> Iterator[FileInfo]:
        before = f"{self._before}{under}/" if under else self._before
        with self._told("listing"):
            for page in self._client.get_paginator("list_objects_v2").paginate(Bucket=self._bucket, Prefix=before):
                for found in page.get("Contents", ()):
                    # A folder that somebody made by hand is an empty object.
                    if not found["Key"].endswith("/"):
                        yield self._info(found["Key"], found["Size"], found)

    def _info(self, key: str, size: int, found: dict[str, Any]) -> FileInfo:
        return FileInfo(key.removeprefix(self._before), size, found["LastModified"], found.get("ETag", "").strip('"'))

    @override
    def info(self, path: str) -> FileInfo | None:
        try:
            with self._told(f"looking at {path} in", path):
                found = self._client.head_object(Bucket=self._bucket, Key=self._before + path)
        except FileMissing:
            return None
        return self._info(self._before + path, found["ContentLength"], found)

    @override
    def open(self, path: str) -> Body:
        with self._told(f"opening {path} in", path):
            found = self._client.get_object(Bucket=self._bucket, Key=self._before + path)
        info = self._info(self._before + path, found["ContentLength"], found)
        return Body(found["Body"], lambda: self._told(f"reading {path} from"), info)

    @override
    def put(self, path: str, content: IO[bytes], size: int) -> None:
        with self._told(f"writing {path} to"):
            transfer = TransferConfig(multipart_threshold=_PART_BYTES, multipart_chunksize=_PART_BYTES, use_threads=False)
            self._client.upload_fileobj(_OpenFile(content), self._bucket, self._before + path, Config=transfer)

    @override
    def close(self) -> None:
        self._client.close()

    @contextmanager
    def _told(self, doing: str, path: str | None = None) -> Iterator[None]:
        """path: of a file that may not be there."""
        try:
            yield
        except ClientError as error:
            code = str(error.response.get("Error", {}).get("Code", ""))
            if path is not None and code in _ABSENT:
                raise file_gone(path, self.where) from None
            words = f"{code}: {error.response.get('Error', {}).get('Message', '')}"
            raise (self._errors.refused if code in _REFUSED else self._errors.failed)(doing, words) from None
        except (ConnectTimeoutError, ReadTimeoutError):
            raise self._errors.timed_out(doing) from None
        except (BotoCoreError, HTTPError) as error:
            raise self._errors.unreachable(doing, str(error)) from None


def open_from(source: FileSource, reveal: Callable[[str], str], places: Places) -> S3Store:
    """See `stores.open.open_store`."""
    return S3Store(source, password_of(source, reveal), authority_of(source, places))
