"""brenvik relocate."""

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
def relocate(
    wait: Wait = 30.0,
    project: ProjectFile = HERE,
    env: Environment = None,
    json: Json = False,
) -> None:
    """After a lakehouse folder was copied, moved or restored elsewhere: make its tables point to the files in it.

    Data files are not rewritten, and the original folder is not touched.
    """
    from brenvik.cli.render.files import show_relocated

    declared = read(project, env)
    with opened(declared, read_only=False, wait_s=wait) as store:
        show_relocated(declared, store.engine.address, store.relocate(), json=json)
