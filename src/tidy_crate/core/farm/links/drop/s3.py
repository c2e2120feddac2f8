"""An S3 bucket as a place. Large files go up in parts, and parts that are there are not sent again."""

from __future__ import annotations

import hashlib
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from itertools import count
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

import botocore.exceptions
from s3fs import S3FileSystem

from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.drop.place import Place, _said
from tidy_crate.core.farm.links.interface import Moved
from tidy_crate.core.farm.links.registry import Token

# bytes; the protocol asks for 5 MiB at least, for all but the last, and allows 10,000 parts of 5 GiB at most
PART = 8 << 20
MOST_PARTS = 10_000
# parts that are sent side by side
AT_ONCE = 4
SECONDS = 30


def part_size(size: int) -> int:
    """Return the bytes of each part of a file: always the same for one size, so that an upload can be continued.

    >>> part_size(1 << 30) >> 20, part_size(1 << 40) >> 20
    (8, 106)
    """
    least = -(-size // MOST_PARTS)
    # whole MiB, with some room
    return max(PART, -(-least // (1 << 20)) + 1 << 20) if least > PART else PART


class Bucket(Place):
    """A folder in an S3 bucket."""

    @property
    def _whole_objects(self) -> bool:
        return True

    def _need_folder(self) -> None:
        bucket = self.root.strip("/").partition("/")[0]
        if not self.fs.exists(bucket):
            raise FarmError("there is no such bucket", self.url, "make it first, or correct the url on the card")

    def make(self, path: str) -> None:
        """See Place.make: a bucket has no folders."""

    def _send(self, local: Path, target: str, digest: str, moved: Moved) -> None:
        bucket, _, key = target.strip("/").partition("/")
        place = {"Bucket": bucket, "Key": key}
        size = local.stat().st_size
        if size <= PART:
            self.fs.pipe_file(target, local.read_bytes())
            moved(size)
            return
        upload, parts = self._begun(place, digest)
        done = []

        def send(number: int, chunk: bytes) -> tuple[dict[str, Any], int]:
            mark = hashlib.md5(chunk, usedforsecurity=False).hexdigest()
            if parts.get(number) != (len(chunk), mark):
                self.fs.call_s3("upload_part", **place, UploadId=upload, PartNumber=number, Body=chunk)
            return {"PartNumber": number, "ETag": f'"{mark}"'}, len(chunk)

        with local.open("rb") as source, ThreadPoolExecutor(AT_ONCE) as pool:
            under_way: deque[Future[tuple[dict[str, Any], int]]] = deque()
            numbers = count(1)
            each = part_size(size)
            while True:
                # no more of the file is held than what is on its way
                while len(under_way) < AT_ONCE and (chunk := source.read(each)):
                    under_way.append(pool.submit(send, next(numbers), chunk))
                if not under_way:
                    break
                part, sent = under_way.popleft().result()
                done.append(part)
                moved(sent)
        self.fs.call_s3("complete_multipart_upload", **place, UploadId=upload, MultipartUpload={"Parts": done})
        self.fs.invalidate_cache()

    def _begun(self, place: dict[str, str], digest: str) -> tuple[str, dict[int, tuple[int, str]]]:
        """The upload of an earlier try with its parts (size, MD5), or a new one."""
        del digest  # each part is compared by its own
        listed = self.fs.call_s3("list_multipart_uploads", Bucket=place["Bucket"], Prefix=place["Key"])
        for one in listed.get("Uploads") or ():
            if one["Key"] == place["Key"]:
                return str(one["UploadId"]), self._parts(place, str(one["UploadId"]))
        return str(self.fs.call_s3("create_multipart_upload", **place)["UploadId"]), {}

    def _parts(self, place: dict[str, str], upload: str) -> dict[int, tuple[int, str]]:
        found: dict[int, tuple[int, str]] = {}
        after = 0
        while True:
            page: dict[str, Any] = self.fs.call_s3("list_parts", **place, UploadId=upload, PartNumberMarker=after)
            for part in page.get("Parts") or ():
                found[int(part["PartNumber"])] = (int(part["Size"]), str(part["ETag"]).strip('"'))
            if not page.get("IsTruncated"):
                return found
            after = int(page["NextPartNumberMarker"])

    @contextmanager
    def _told(self, what: str) -> Iterator[None]:
        try:
            with super()._told(what):
                yield
        except botocore.exceptions.ClientError as error:
            code = str(error.response.get("Error", {}).get("Code", ""))
            if code == "NoSuchBucket":
                raise FarmError("there is no such bucket", self.url, "correct the url on the card") from error
            raise FarmError(
                f"{what} ({code or _said(error)})", self.url, "check bucket, keys and their rights"
            ) from error
        except (botocore.exceptions.BotoCoreError, botocore.exceptions.HTTPClientError) as error:
            raise FarmBusy(f"{what} ({_said(error)})", self.url, "check the endpoint; run the command again") from error


def open_s3(card: FarmCard, token: Token) -> Bucket:
    """Open a bucket. The token is the access key and the secret key, joined by a colon."""
    parts = urlsplit(card.url)
    access, colon, secret = token().partition(":")
    if not colon:
        what = "the token for a bucket is ACCESS_KEY:SECRET_KEY"
        raise FarmError(what, card.name, "store both, joined by a colon")
    client: dict[str, Any] = {"region_name": card.place.region} if card.place.region else {}
    fs = S3FileSystem(
        key=access, secret=secret, endpoint_url=card.place.endpoint or None, client_kwargs=client,
        config_kwargs={"connect_timeout": SECONDS, "read_timeout": SECONDS, "retries": {"max_attempts": 3}},
        skip_instance_cache=True, use_listings_cache=False,
    )  # fmt: skip
    return Bucket(fs, f"{parts.hostname or ''}{unquote(parts.path)}", card.name, card.url)
