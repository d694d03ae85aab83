"""How long pictures take afterwards, on the demo: a grade of all cells, an edition in three sizes, a board.

    python benchmarks/afterwards.py [scale]

Wall time of the command, start and planning included, on all processors; the cells are traced beforehand, at
the demo's own scale unless another one is named.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from grandlattice.demo import write_demo

GLAT = [sys.executable, "-c", "from grandlattice.cli.main import main; main()"]
EDITIONS = """
editions:
  small: {scale: 25%, format: jpg}
  half: {scale: 50%, format: jpg}
  whole: {format: png}

boards:
  wall: {paper: A3, ppi: 300, at: "light=noon,evening", captions: [coordinates, samples, noise]}
"""


def seconds(folder: Path, *words: str) -> float:
    """Wall time of a command."""
    started = time.perf_counter()
    environment = {**os.environ, "COLUMNS": "200", "NO_COLOR": "1"}
    subprocess.run([*GLAT, *words], cwd=folder, check=True, capture_output=True, env=environment)
    return time.perf_counter() - started


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        plan = write_demo(folder)
        text = plan.read_text().partition("editions:")[0] + EDITIONS
        if len(sys.argv) > 1:
            text = text.replace("scale: 20%", f"scale: {sys.argv[1]}")
        plan.write_text(text)
        seconds(folder, "run", "--run", "spare=0")
        rows = (
            ("grade of 27 cells", ("grade", "exposure=0.2", "temperature=0.1"), "< 10 s"),
            ("an edition of 27 cells in three sizes", ("edition",), "< 10 s"),
            ("an A3 PDF board of 21 pictures at 300 ppi", ("board",), "< 3 s for 24"),
        )
        for what, words, bar in rows:
            print(f"{what:50} {seconds(folder, *words):6.1f} s   {bar}", flush=True)


if __name__ == "__main__":
    main()
