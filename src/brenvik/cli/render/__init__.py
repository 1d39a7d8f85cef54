"""How answers look: for people, and as JSON for programs."""
