"""The version that is installed; "0" in a source tree that is not."""

from importlib.metadata import PackageNotFoundError, version

try:
    __version__ = version("grandlattice")
except PackageNotFoundError:
    __version__ = "0"
