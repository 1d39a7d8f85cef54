"""Where tables live: one file per kind of store, behind the protocol in ``base``."""
