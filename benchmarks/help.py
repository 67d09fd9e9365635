"""`yardbolt --help` against `import typer`, side by side in one run: python benchmarks/help.py"""

import statistics
import subprocess
import sys
import time


def took(*argv: str) -> float:
    """Wall time of one command, in seconds."""
    start = time.perf_counter()
    subprocess.run([sys.executable, *argv], check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - start


pairs = [(took("-m", "yardbolt", "--help"), took("-c", "import typer")) for _ in range(15)]
ours, typer = (statistics.median(side) for side in zip(*pairs, strict=True))
print(f"yardbolt --help {ours * 1000:.0f} ms, import typer {typer * 1000:.0f} ms: {ours / typer:.2f} times")
