"""A module for each command, or for a group of them: parse, call, show."""
