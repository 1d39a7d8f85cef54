"""The command line: parse, call the library, show. No logic of loads lives here."""
