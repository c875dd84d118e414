"""The known file systems and partition tables. A new module registers itself; none is named here.

A file system is a package with a module `reader`; partition tables are the modules of `tables`.
"""

from __future__ import annotations

from collections.abc import Mapping

from needlewright.core.registry import Registry
from needlewright.core.volumes.base import FileSystem
from needlewright.core.volumes.tables.base import Table

_file_systems: Registry[FileSystem] = Registry("needlewright.core.volumes", within="reader")
_tables: Registry[Table] = Registry("needlewright.core.volumes.tables")


def register(entry: FileSystem) -> FileSystem:
    """Add a file system; ValueError if its name is taken."""
    return _file_systems.add(entry.name, entry)


def register_table(entry: Table) -> Table:
    """Add a partition table; ValueError if its name is taken."""
    return _tables.add(entry.name, entry)


def file_systems() -> Mapping[str, FileSystem]:
    """All file systems by name."""
    return _file_systems.all()


def tables() -> Mapping[str, Table]:
    """All partition tables by name."""
    return _tables.all()
