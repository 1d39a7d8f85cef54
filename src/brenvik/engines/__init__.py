"""Where tables live: one file per kind of store, behind ``protocol.Engine``."""
