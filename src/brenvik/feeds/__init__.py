"""Where changes come from: one file per kind of feed, each giving a ``Batch``."""
