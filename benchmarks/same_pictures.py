"""Whether two versions of the code make the same pictures of the demo, to the last bit.

    git worktree add ../before COMMIT
    python benchmarks/same_pictures.py ../before/src src

Both write the demo and render its 27 cells, with whatever is installed here; every channel of every EXR is
compared.  Ends with 1 where one differs.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import OpenImageIO as oiio


def rendered(source: Path, folder: Path) -> float:
    """Render the demo with a version of the code; seconds it took."""
    environment = {**os.environ, "PYTHONPATH": str(source.resolve())}
    started = time.perf_counter()
    subprocess.run(
        [sys.executable, "-m", "grandlattice", "demo", str(folder)], env=environment, check=True,
        capture_output=True,
    )  # fmt: skip
    return time.perf_counter() - started


def channels(file: Path) -> dict[str, bytes]:
    source = oiio.ImageInput.open(str(file))
    pixels = np.asarray(source.read_image(oiio.FLOAT))
    return {name: pixels[..., k].tobytes() for k, name in enumerate(source.spec().channelnames)}


def main() -> None:
    before, after = (Path(text) for text in sys.argv[1:3])
    with tempfile.TemporaryDirectory() as name:
        folders = {label: Path(name) / label for label in ("before", "after")}
        for (label, folder), source in zip(folders.items(), (before, after), strict=True):
            print(f"{label}: {source}, {rendered(source, folder):.0f} s with compiling", flush=True)
        files = {
            label: sorted(f.relative_to(folder) for f in folder.rglob("*.exr"))
            for label, folder in folders.items()
        }
        assert files["before"] == files["after"], "other files"
        differing = []
        for file in files["before"]:
            one, other = (channels(folder / file) for folder in folders.values())
            names = sorted(one.keys() | other.keys())
            differing += [f"{file} {name}" for name in names if one.get(name) != other.get(name)]
    print(f"{len(files['before'])} pictures, {len(differing)} channels differ")
    print("\n".join(differing[:20]))
    sys.exit(1 if differing else 0)


if __name__ == "__main__":
    main()
