"""Erased keys in the ledger. The run that erased a key has its digest, after the salt of the table, as its label."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from brenvik.ledger.entries import Entries, H
from brenvik.ledger.records import Run
from brenvik.ledger.schema import ERASE, SALT, place
from brenvik.model.text_forms import without_words


class Erasures(Entries[H]):
    """Erased keys."""

    def salt(self, table: str) -> str | None:
        """What precedes keys of a table in their digests; None while none was erased."""
        if not self.exists():
            return None
        found = self._rows(
            f"SELECT max(label) AS label FROM {place('runs')} "
            "WHERE table_name = :table_name AND kind = :kind AND state = 'done'",
            {"table_name": table, "kind": ERASE},
        )
        label = found[0]["label"]
        return str(label)[:SALT] if label else None

    def rejects_with(self, table: str, mentions: Callable[[str], bool]) -> Iterator[int]:
        """The numbers of a table's rejects whose content mentions something."""
        found = self._rows(
            f"SELECT reject, content FROM {place('rejects')} WHERE table_name = :table_name AND content IS NOT NULL",
            {"table_name": table},
        )
        return (row["reject"] for row in found if mentions(row["content"]))

    def messages_without(self, table: str, words: Sequence[str]) -> Iterator[tuple[int, str]]:
        """The messages of a table's runs in which any of some words occurs, without it; each after its run."""
        found = self._rows(
            f"SELECT run, message FROM {place('runs')} WHERE table_name = :table_name AND message IS NOT NULL",
            {"table_name": table},
        )
        for row in found:
            if (message := without_words(row["message"], words)) != row["message"]:
                yield row["run"], message

    def erase(self, run: Run, key: str, digest: str, rejects: Sequence[int], messages: Mapping[int, str]) -> None:
        """Takes the values of a key from everything that was recorded of it."""
        nothing = dict.fromkeys(("column_name", "value", "content"))
        erased = {**nothing, "reason": "erased", "state": "erased", "decided_by": run.number}
        self._update("rejects", erased, {"table_name": run.table}, numbers=("reject", rejects))
        self._update("rejected_keys", {"key": digest}, {"table_name": run.table, "key": key})
        for number, message in messages.items():
            self._update("runs", {"message": message}, {"run": number})
