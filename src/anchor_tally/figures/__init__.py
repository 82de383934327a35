"""What a figure shows (info) and its ink (draw)."""

import sys
from types import ModuleType

# Matplotlib imports its three-dimensional axes when it starts (0.15 s) to register them. None is
# drawn here: an empty class stands
# under their name, so that the rest starts without them.
if "mpl_toolkits.mplot3d" not in sys.modules:
    _three_d = ModuleType(
        "mpl_toolkits.mplot3d", "Not loaded: no figure of this program has three dimensions."
    )
    _three_d.Axes3D = type("Axes3D", (), {"name": "3d"})  # type: ignore[attr-defined]
    sys.modules["mpl_toolkits.mplot3d"] = _three_d
