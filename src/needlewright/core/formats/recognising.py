"""What a file is: by its first bytes among all formats, by its name where these say nothing."""

from __future__ import annotations

from functools import lru_cache

from needlewright.core.databases.subjects import subject_by_name
from needlewright.core.formats.base import Format, Signature
from needlewright.core.formats.registry import formats
from needlewright.core.walks import Kind

DATABASE = "sqlite"  # the format whose kind its name tells
UNDEFINED = 0x3000  # an object format of PTP
HEAD_BYTES = 64  # what `Format.accept` sees
DOCUMENTS = frozenset((
    "txt", "csv", "tsv", "log", "rtf", "doc", "docx", "odt", "xls", "xlsx", "ods", "ppt", "pptx",
    "odp", "pdf", "html", "htm", "xml", "json", "md", "tex", "epub", "gpx", "kml", "kmz", "srt"))
KINDS = {"eml": Kind.MESSAGE, "mbox": Kind.MESSAGE, "msg": Kind.MESSAGE, "vcf": Kind.CONTACT,
         "ics": Kind.NOTE}


def recognise(head: bytes, name: str = "") -> list[Format]:
    """The formats that may begin with `head`, those that fit the extension of `name` first.

    A signature that fixes very little counts only where the name agrees.
    """
    by_name = format_of_name(name)
    found: list[tuple[bool, int, Format]] = []
    for form in formats().values():
        fits = [s for s in form.signatures if _stands(s, head)]
        if not fits or not form.accept(head[:HEAD_BYTES]):
            continue
        named = form is by_name
        if named or any(not s.weak and len(s.magic) > 2 for s in fits):
            found.append((not named, -max(len(s.magic) for s in fits), form))
    found.sort(key=lambda item: item[:2])
    return [form for _, _, form in found]


def _stands(signature: Signature, head: bytes) -> bool:
    part = head[signature.at : signature.at + len(signature.magic)]
    if not signature.mask:
        return part == signature.magic
    return len(part) == len(signature.magic) and all(
        a & m == b & m for a, b, m in zip(part, signature.magic, signature.mask))


@lru_cache(maxsize=1)
def _by_extension() -> dict[str, tuple[Format, Kind, str]]:
    """extension -> (format, kind, name of the variant)."""
    known: dict[str, tuple[Format, Kind, str]] = {}
    for form in formats().values():
        for variant in (form.plain, *form.variants):
            known.setdefault(variant.extension, (form, variant.kind, variant.name))
    for form in formats().values():
        for other, own in form.aliases.items():
            known.setdefault(other, known[own])
    return known


def extension_of(name: str) -> str:
    """The extension in small letters; "" where there is none."""
    stem, dot, suffix = name.rpartition(".")
    return suffix.lower() if dot and stem and len(suffix) <= 8 else ""


def format_of_name(name: str) -> Format | None:
    """The format that the extension of `name` promises."""
    known = _by_extension().get(extension_of(name))
    return known[0] if known else None


def object_format_of_name(name: str) -> int:
    """The number by which PTP tells files of this extension (ISO 15740:2013, 11.2): 0x3000,
    undefined, where it has none."""
    extension = extension_of(name)
    known = _by_extension().get(extension)
    if known is None:
        return UNDEFINED
    form = known[0]
    return form.object_formats.get(form.aliases.get(extension, extension), UNDEFINED)


def kind_of_name(name: str) -> tuple[Kind, str, str]:
    """(kind, format, extension) as far as the name tells."""
    extension = extension_of(name)
    known = _by_extension().get(extension)
    if known is not None:
        about = subject_by_name(name.rpartition("/")[2].rpartition(".")[0]) if (
            known[0].name == DATABASE) else ""
        return Kind(about) if about else known[1], known[2], extension
    if extension in DOCUMENTS:
        return Kind.DOCUMENT, extension, extension
    return KINDS.get(extension, Kind.OTHER), extension or "unknown", extension or "bin"
