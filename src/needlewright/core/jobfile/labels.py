"""Labels of finds: what was learnt of them later, each by its name, so that none needs a column."""

from __future__ import annotations

from collections.abc import Mapping

from needlewright.core.jobfile.database import Database

#: Of finds that the last comparison of the sources showed to be on a shelf alone.
MISSING = "missing"


class Labels:
    """The labels of one job: a find has one value a name at the most."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def of(self, number: int) -> dict[str, str]:
        """Name -> value of all that find `number` has."""
        return {str(name): str(value) for name, value in self._database.rows(
            "SELECT name, value FROM labels WHERE find = ? ORDER BY name", (number,))}

    def all(self, name: str) -> dict[int, str]:
        """Find -> value of all that have this label."""
        return {int(find): str(value) for find, value in self._database.rows(
            "SELECT find, value FROM labels WHERE name = ? ORDER BY find", (name,))}

    def put(self, name: str, values: Mapping[int, str]) -> None:
        """Keep find -> value of one label, beside what others have; finds that the job does not
        have any more get none."""
        self._write(name, values, anew=False)

    def replace(self, name: str, values: Mapping[int, str]) -> None:
        """The same in the place of all that had the label before."""
        self._write(name, values, anew=True)

    def _write(self, name: str, values: Mapping[int, str], anew: bool) -> None:
        def write() -> None:
            if anew:
                self._database.run("DELETE FROM labels WHERE name = ?", (name,))
            self._database.many(
                "INSERT OR REPLACE INTO labels (find, name, value)"
                " SELECT id, ?2, ?3 FROM finds WHERE id = ?1",
                ((find, name, value) for find, value in values.items()))

        self._database.write(write)
