"""The API reference: ``python -m sphinx -W -b html docs/site docs/site/_build``."""

from importlib.metadata import version as version_of

project = "Grand Lattice"
author = "the authors of Grand Lattice"
release = version = version_of("grandlattice")
extensions = ["sphinx.ext.autodoc", "sphinx.ext.autosummary", "numpydoc", "sphinx.ext.viewcode"]
html_theme = "alabaster"
html_theme_options = {"page_width": "1080px", "description": "One scene, one plan, every picture"}
html_show_sourcelink = False
exclude_patterns = ["_build"]
default_role = "literal"
autodoc_typehints = "none"
autodoc_member_order = "bysource"
autosummary_generate = False
numpydoc_show_class_members = False
numpydoc_class_members_toctree = False
