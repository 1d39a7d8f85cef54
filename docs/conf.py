"""How the documentation is built: ``make docs``."""

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent / "_ext"))

from brenvik import __version__

project = "Brenvik"
author = "The Brenvik authors"
copyright = "The Brenvik authors"
release = __version__

extensions = ["myst_parser", "sphinx.ext.autodoc", "generated"]
exclude_patterns = ["_ext", "_build"]
nitpicky = False
html_theme = "furo"
html_title = f"Brenvik {release}"
html_static_path: list[str] = []
smartquotes = False
html_show_sourcelink = False
html_copy_source = False

myst_enable_extensions = ["colon_fence", "deflist"]
myst_heading_anchors = 3

autodoc_member_order = "bysource"
autodoc_typehints = "signature"
autodoc_default_options = {"members": True, "show-inheritance": False}
add_module_names = False
python_maximum_signature_line_length = 88
