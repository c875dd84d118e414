"""What a server of WebDAV tells of its resources: `DAV:multistatus` (RFC 4918, section 13)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import quote, unquote, urlsplit
from xml.etree.ElementTree import ParseError

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import fromstring

from needlewright.core.errors import SourceError

DAV = "{DAV:}"
FIND = (b'<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><resourcetype/>'
        b"<getcontentlength/><getlastmodified/><getetag/></prop></propfind>")
VERSIONS = (b'<?xml version="1.0" encoding="utf-8"?><version-tree xmlns="DAV:"><prop>'
            b"<version-name/><getcontentlength/><getlastmodified/><creator-displayname/>"
            b"</prop></version-tree>")


@dataclass(frozen=True, slots=True)
class Resource:
    """A resource. `path`: from the server's root, unquoted, without a slash at its end; `href`: as
    it is asked for; times as RFC 3339; `version`: the name of a version, "" of a resource."""

    path: str
    href: str
    is_folder: bool
    size: int | None
    modified: str | None
    etag: str
    version: str = ""


def resources_in(body: bytes, name: str) -> Iterator[Resource]:
    """The resources that an answer tells of. SourceError where it is no such answer; what is told
    of another place is passed over."""
    try:
        root = fromstring(body, forbid_dtd=True)
    except (ParseError, DefusedXmlException, ValueError, LookupError, RecursionError) as error:
        raise SourceError("service-not-json", path=name) from error
    if root.tag != f"{DAV}multistatus":
        raise SourceError("service-not-json", path=name)
    for response in root.iter(f"{DAV}response"):
        href = (response.findtext(f"{DAV}href") or "").strip()
        try:
            raw = urlsplit(href).path
        except ValueError:
            continue
        path = unquote(raw, errors="replace")
        if not raw.startswith("/") or "\0" in path or ".." in path.split("/"):
            continue
        told = _properties(response)
        kind = told.get("resourcetype")
        size = _text(told, "getcontentlength")
        yield Resource(
            path.rstrip("/"), quote(path, safe="/"),
            kind is not None and kind.find(f"{DAV}collection") is not None,
            int(size) if size.isascii() and size.isdigit() and len(size) < 19 else None,
            _http_date(_text(told, "getlastmodified")),
            _text(told, "getetag"), _text(told, "version-name"))


def _properties(response: Any) -> dict[str, Any]:
    """What was found, by names: of those with a status of success."""
    found: dict[str, Any] = {}
    for part in response.findall(f"{DAV}propstat"):
        status = (part.findtext(f"{DAV}status") or "").split()
        properties = part.find(f"{DAV}prop")
        if properties is not None and len(status) > 1 and status[1] == "200":
            for one in properties:
                if isinstance(one.tag, str) and one.tag.startswith(DAV):
                    found[one.tag.removeprefix(DAV)] = one
    return found


def _text(told: dict[str, Any], name: str) -> str:
    return (told[name].text or "").strip() if name in told else ""


def _http_date(text: str) -> str | None:
    """RFC 9110, 5.6.7."""
    try:
        return _zulu(parsedate_to_datetime(text))
    except (ValueError, TypeError, OverflowError):
        return None


def _zulu(when: datetime) -> str:
    return when.isoformat(timespec="seconds").replace("+00:00", "Z")
