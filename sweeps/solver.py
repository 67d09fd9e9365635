"""Random packet filters, their exact sets against an SMT solver: python sweeps/solver.py [LISTS] [SEED]"""

import sys
from pathlib import Path

from hypothesis import HealthCheck, given, seed, settings

sys.path.insert(0, str(Path(__file__).parent.parent))
from tests.solver import disagrees
from tests.test_filter import AT, planes
from yardbolt.core.judge.filter import through
from yardbolt.core.plane.leaves import Plane

many, first = (int(word) for word in (*sys.argv[1:], "2000", "1")[:2]) if len(sys.argv) != 2 else (int(sys.argv[1]), 1)
done = 0


@seed(first)
@settings(max_examples=many, database=None, deadline=None, suppress_health_check=list(HealthCheck))
@given(planes())
def agree(plane: Plane) -> None:
    global done
    done += 1
    assert not (found := disagrees(plane, through(plane, AT))), found


agree()
print(f"{done} lists, 0 unlike")
