"""The numbers of PTP (ISO 15740:2013, 10 and 11) and MTP (USB-IF MTP 1.1, appendices B to F) that
are used here."""

from __future__ import annotations

GET_DEVICE_INFO, OPEN_SESSION, CLOSE_SESSION = 0x1001, 0x1002, 0x1003
GET_STORAGE_IDS, GET_STORAGE_INFO = 0x1004, 0x1005
GET_OBJECT_HANDLES, GET_OBJECT_INFO, GET_OBJECT, GET_THUMB = 0x1007, 0x1008, 0x1009, 0x100A
GET_PARTIAL_OBJECT = 0x101B
SEND_OBJECT_INFO, SEND_OBJECT = 0x100C, 0x100D
GET_PROP_VALUE, GET_PROP_LIST = 0x9803, 0x9805
GET_PARTIAL_OBJECT_64 = 0x95C1  # an extension that phones list among their operations

OK, GENERAL_ERROR, SESSION_NOT_OPEN = 0x2001, 0x2002, 0x2003
NOT_SUPPORTED, INVALID_HANDLE, ACCESS_DENIED = 0x2005, 0x2009, 0x200F
STORE_FULL, NO_THUMBNAIL, STORE_NOT_AVAILABLE, DEVICE_BUSY = 0x200C, 0x2010, 0x2013, 0x2019
SESSION_OPEN = 0x201E

EVERY, ALL_PROPERTIES = 0xFFFFFFFF, 0xFFFFFFFF
FOLDER, UNDEFINED = 0x3001, 0x3000  # an association; an object of no known format

STORAGE, FORMAT, SIZE, ASSOCIATION = 0xDC01, 0xDC02, 0xDC04, 0xDC05
NAME, CREATED, MODIFIED, PARENT, HIDDEN = 0xDC07, 0xDC08, 0xDC09, 0xDC0B, 0xDC0D
UNIQUE = 0xDC41

#: What response codes mean, to be read by people (11.3).
MEANINGS = {
    0x2002: "general error", 0x2003: "session not open", 0x2005: "operation not supported",
    0x2006: "parameter not supported", 0x2007: "incomplete transfer", 0x2009: "invalid object",
    0x200B: "not supported by the format", 0x200C: "store full", 0x200F: "access denied",
    0x2010: "no thumbnail", 0x2012: "partial deletion", 0x2013: "store not available",
    0x2019: "device busy", 0x201D: "invalid parameter", 0x201F: "cancelled",
}


def meaning(code: int) -> str:
    """A response code in words, with the number."""
    return f"{MEANINGS.get(code, 'refused')} (0x{code:04X})"
