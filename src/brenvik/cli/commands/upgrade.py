"""brenvik upgrade."""

from __future__ import annotations

from brenvik.cli.app import (
    HERE,
    Environment,
    Json,
    ProjectFile,
    Wait,
    app,
    opened,
    read,
)


@app.command()
def upgrade(
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """Bring a store that an older Brenvik wrote to the schema version of this one; make a backup first.

    Rows of tables and change logs stay as they are.
    """
    from brenvik.cli.render.files import show_upgraded

    declared = read(project, env)
    with opened(declared, read_only=False, wait_s=wait) as store:
        show_upgraded(declared, store.address, store.upgrade(wait_s=wait), json=json)
