"""How the docs are built: `sphinx-build -W docs FOLDER`. The reference is made from the program on the way."""

import sys
from pathlib import Path

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT))

from scripts import reference  # noqa: E402 - it is found only now

from hooper import __version__  # noqa: E402

reference.write("pages", ROOT / "docs" / "generated")

project, author, release = "Hooper", "The Hooper authors", __version__
copyright = author
extensions = ["myst_parser"]
exclude_patterns = ["schemas", "man", "_static"]
myst_heading_anchors = 3

html_theme = "furo"
html_title = f"Hooper {release}"
html_copy_source = False
html_show_sphinx = False
html_static_path = ["_static"]
html_css_files = ["pages.css"]
smartquotes = False
html_theme_options = {"source_repository": "", "navigation_with_keys": True}
