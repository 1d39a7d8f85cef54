"""Object stores: a stand-in for one, on loopback."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

USER = "coast"
SECRET = "not a real key/+"


@contextmanager
def serving() -> Iterator[str]:
    """The address of an object store that lives as long as this."""
    from moto.server import ThreadedMotoServer

    server = ThreadedMotoServer("127.0.0.1", 0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    try:
        yield f"http://{host}:{port}"
    finally:
        server.stop()


def client(endpoint: str) -> Any:
    import boto3

    keys = {"aws_access_key_id": USER, "aws_secret_access_key": SECRET, "region_name": "us-east-1"}
    return boto3.client("s3", endpoint_url=endpoint, **keys)
