"""The compaction of a table: which files are rewritten, which snapshots and files are removed.

Every load adds a few small files and marks rows of others as deleted. Both slow down reads. Small files become larger
ones; a file with many deleted rows is rewritten without them. Large files with few deleted rows stay as they are, so that a
compaction costs what was loaded since, not what the table contains.
"""

from __future__ import annotations

import time
from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping
from datetime import timedelta
from pathlib import Path

from pyiceberg.table import Table
from pyiceberg.table.metadata import TableMetadata
from pyiceberg.table.refs import SnapshotRefType
from pyiceberg.table.snapshots import Snapshot, ancestors_of

from brenvik.engines.lakehouse.catalogs import scheme_of
from brenvik.engines.lakehouse.files import ROW_GROUP
from brenvik.engines.lakehouse.lake import Lake, LakeTable, local

MANY_DELETED = 0.05
"""The share of deleted rows from which on a file is rewritten."""
LEFTOVER_S = 24 * 3600.0
"""How old an unreferenced file must be: a younger one may be about to be committed."""


def to_rewrite(state: LakeTable, deleted: Mapping[str, int]) -> set[int]:
    """The numbers of files that are worth rewriting; ``deleted`` says how many rows of each file are deleted."""
    field = next((column.field for column in state.columns if column.name == state.split_by), None)
    small: dict[bytes | None, list[int]] = defaultdict(list)
    chosen = set()
    for number, file in enumerate(state.files):
        deleted_rows = deleted.get(file.file_path, 0)
        if deleted_rows > MANY_DELETED * file.record_count:
            chosen.add(number)
        if file.record_count - deleted_rows < ROW_GROUP:
            small[(file.lower_bounds or {}).get(field or -1)].append(number)
    return chosen.union(*(numbers for numbers in small.values() if len(numbers) > 1))


def forget(
    lake: Lake, state: LakeTable, needed: Collection[int], keep: timedelta, *, named: Collection[str] = ()
) -> tuple[LakeTable, int, int]:
    """Expires snapshots of a table that are older than ``keep``, and removes the files that nothing needs then: how many, and
    their bytes. What must stay are the snapshots that are ``needed``, and files that are ``named`` elsewhere."""
    assert state.table
    metadata = state.table.metadata
    going = to_drop(metadata, needed, int(time.time() * 1000 - keep.total_seconds() * 1000))
    files = files_of(lake, state.table, filter(None, map(metadata.snapshot_by_id, going)))
    if going:
        state = lake.drop_snapshots(state, going)
    assert state.table
    return (state, *sweep(lake, state.table, files, named))


def to_drop(metadata: TableMetadata, needed: Collection[int], before_ms: int) -> list[int]:
    """The numbers of snapshots that were made before a moment and that nothing refers to: not those that a branch or a tag
    refers to, not ``needed`` ones, nor their successors."""
    stay = {ref.snapshot_id for ref in metadata.refs.values()} | set(needed)
    since: list[int] = []
    current = metadata.current_snapshot()
    for snapshot in ancestors_of(current, metadata) if current else ():
        since.append(snapshot.snapshot_id)
        if snapshot.snapshot_id in needed:
            stay.update(since)
    for name, ref in metadata.refs.items():
        head = metadata.snapshot_by_id(ref.snapshot_id)
        if head and name != "main" and ref.snapshot_ref_type == SnapshotRefType.BRANCH:
            stay.update(snapshot.snapshot_id for snapshot in ancestors_of(head, metadata))
    return [
        snapshot.snapshot_id
        for snapshot in metadata.snapshots
        if snapshot.snapshot_id not in stay and snapshot.timestamp_ms < before_ms
    ]


def files_of(lake: Lake, table: Table, snapshots: Iterable[Snapshot]) -> set[str]:
    """All files of snapshots."""
    found = set()
    for snapshot in snapshots:
        found.add(snapshot.manifest_list)
        for manifest in lake.manifests(table, snapshot):
            found.add(manifest.manifest_path)
            found.update(entry.data_file.file_path for entry in lake.entries(table, manifest))
    return found


def sweep(lake: Lake, table: Table, dropped: set[str], named: Collection[str]) -> tuple[int, int]:
    """Removes the files of expired snapshots and of loads that were interrupted, unless the table or ``named`` refers to them.
    Returns their number and size."""
    metadata = table.metadata
    needed = files_of(lake, table, metadata.snapshots) | {table.metadata_location, *named}
    needed.update(entry.metadata_file for entry in metadata.metadata_log)
    needed.update(each.statistics_path for each in (*metadata.statistics, *metadata.partition_statistics))
    kept = {local(path) for path in needed}
    going = {local(path) for path in dropped}
    if not scheme_of(table.location()):
        going.update(_leftovers(Path(local(table.location()))))
    count = size = 0
    for path in sorted(going - kept):
        try:
            length = len(table.io.new_input(path))
            table.io.delete(path)
        except FileNotFoundError:  # another process removed it
            continue
        count, size = count + 1, size + length
    return count, size


def _leftovers(folder: Path) -> Iterable[str]:
    """Old files below a table's folder."""
    latest = time.time() - LEFTOVER_S
    return (str(path) for path in folder.rglob("*") if path.is_file() and path.stat().st_mtime < latest)
