"""All that is promised of shared traces, measured in one run, each line with its bar.

python benchmarks/shared.py [OLD]       # an hour and more; OLD as in shared_matrix.py
"""

from __future__ import annotations

import sys

import shared_matrix
import shared_traces


def main() -> None:
    for words in ([], ["bytes"], ["bias"]):
        shared_traces.main(words)
    shared_matrix.main([])
    if len(sys.argv) > 1:
        shared_matrix.main(["unshared", sys.argv[1]])


if __name__ == "__main__":
    main()
