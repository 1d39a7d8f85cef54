"""Settings shared by all tests."""

import os
import sys
from pathlib import Path

from hypothesis import HealthCheck, settings

for folder in ("laws", "end_to_end", "feeds"):  # where helpers stand beside the tests that use them
    sys.path.insert(0, str(Path(__file__).parent / folder))

settings.register_profile(
    "laws",
    max_examples=int(os.environ.get("LAW_EXAMPLES") or (2000 if os.environ.get("CI") else 200)),
    deadline=None,
    suppress_health_check=list(HealthCheck),
    print_blob=True,
)
settings.load_profile("laws")
