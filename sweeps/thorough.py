"""The whole suite with more cases drawn, and with what takes minutes more: python sweeps/thorough.py [MANY] [WHAT
PYTEST TAKES]"""

import os
import sys

many, *rest = sys.argv[1:] or ["2000"]
if __name__ == "__main__":
    os.execve(sys.executable, [sys.executable, "-m", "pytest", *rest], {**os.environ, "N": many})
