"""The command line: parse, call the library, show. Nothing is worked out here."""
