"""An S3 bucket as a place. Large files go up in parts, and parts that are there are not sent again."""

from __future__ import annotations

import hashlib
import mmap
import posixpath
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

import botocore.exceptions
from s3fs import S3FileSystem

from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.drop.parts import Part, as_list, from_list, parts_of
from tidy_crate.core.farm.links.drop.place import MOST_READ, Place, _said
from tidy_crate.core.farm.links.interface import Moved
from tidy_crate.core.farm.links.registry import Token
from tidy_crate.core.transfer.chunks import Chunk, chunks

# bytes; the protocol asks for 5 MiB at least, for all but the last, and allows 10,000 parts of 5 GiB at most
PART = 10 << 20
MOST_PARTS = 10_000
# parts that are sent side by side
AT_ONCE = 4
SECONDS = 30
# ending of the list of an object's chunks, beside it
PIECES = ".pieces"


def part_size(size: int) -> int:
    """Return the bytes of each part of a file: always the same for one size, so that an upload can be continued.

    >>> part_size(1 << 30) >> 20, part_size(1 << 40) >> 20
    (10, 106)
    """
    least = -(-size // MOST_PARTS)
    # whole MiB, with some room
    return max(PART, -(-least // (1 << 20)) + 1 << 20) if least > PART else PART


def plain_parts(size: int, each: int) -> list[Part]:
    """Return the parts of a file of which nothing is there yet."""
    return [Part(at, min(each, size - at), None) for at in range(0, size, each)]


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

    def _send(self, local: Path, target: str, digest: str, moved: Moved) -> int:
        bucket, _, key = target.strip("/").partition("/")
        place = {"Bucket": bucket, "Key": key}
        size = local.stat().st_size
        if size <= PART:
            self.fs.pipe_file(target, local.read_bytes())
            moved(size)
            return 0
        upload, there = self._begun(place, digest)
        with local.open("rb") as source, mmap.mmap(source.fileno(), 0, access=mmap.ACCESS_READ) as data:
            with memoryview(data) as view:
                pieces = chunks(view)
            earlier, old = self._like(target)
            parts = parts_of(pieces, old, part_size(size)) if old else []
            if not 0 < len(parts) <= MOST_PARTS:
                parts = plain_parts(size, part_size(size))

            def send(number: int, part: Part) -> tuple[dict[str, Any], int, bool]:
                chunk = data[part.offset : part.offset + part.bytes]
                mark = hashlib.md5(chunk, usedforsecurity=False).hexdigest()
                words = {**place, "UploadId": upload, "PartNumber": number}
                copied = False
                if there.get(number) != (len(chunk), mark):
                    copied = part.source is not None and self._copied(earlier, part, words) == mark
                    if not copied:
                        self.fs.call_s3("upload_part", **words, Body=chunk)
                return {"PartNumber": number, "ETag": f'"{mark}"'}, len(chunk), copied

            with ThreadPoolExecutor(AT_ONCE) as pool:
                done, kept = [], 0
                under_way: deque[Future[tuple[dict[str, Any], int, bool]]] = deque()
                waiting = iter(enumerate(parts, 1))
                while True:
                    # no more of the file is held than what is on its way
                    while len(under_way) < AT_ONCE and (one := next(waiting, None)) is not None:
                        under_way.append(pool.submit(send, *one))
                    if not under_way:
                        break
                    told, sent, copied = under_way.popleft().result()
                    done.append(told)
                    kept += sent if copied else 0
                    moved(sent)
        self.fs.call_s3("complete_multipart_upload", **place, UploadId=upload, MultipartUpload={"Parts": done})
        self.fs.pipe_file(target + PIECES, as_list(pieces))
        self.fs.invalidate_cache()
        return kept

    def _copied(self, earlier: str, part: Part, words: dict[str, Any]) -> str:
        """Let the service copy a part of an earlier object. Return the MD5 of what it has copied; empty for nothing."""
        bucket, _, key = earlier.strip("/").partition("/")
        assert part.source is not None
        try:
            found = self.fs.call_s3(
                "upload_part_copy", **words, CopySource={"Bucket": bucket, "Key": key},
                CopySourceRange=f"bytes={part.source}-{part.source + part.bytes - 1}",
            )  # fmt: skip
        except (OSError, botocore.exceptions.ClientError):
            return ""  # services without this, and objects that are gone
        return str(found.get("CopyPartResult", {}).get("ETag", "")).strip('"')

    def _like(self, target: str) -> tuple[str, list[Chunk]]:
        """Return the latest object of the same crate, with its chunks; none where there is no list of them."""
        folder, name = posixpath.split(target)
        ending = posixpath.splitext(name)[1]
        try:
            listed = self.fs.ls(folder, detail=True, refresh=True)
        except FileNotFoundError:
            return "", []
        begin = name.rpartition("-")[0] + "-"
        like = [one for one in listed if posixpath.basename(one["name"]).startswith(begin)]
        sizes = {one["name"]: int(one.get("size") or 0) for one in like}
        lists = [one for one in like if one["name"].endswith(ending + PIECES) and sizes[one["name"]] < MOST_READ]
        for one in sorted(lists, key=lambda one: str(one.get("LastModified")), reverse=True)[:1]:
            earlier = one["name"].removesuffix(PIECES)
            return earlier, from_list(self.fs.cat_file(one["name"]), sizes.get(earlier, 0))
        return "", []

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
