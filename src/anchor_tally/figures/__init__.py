"""What a figure shows (info) and its ink (draw)."""

import sys
import warnings

# Matplotlib imports its three-dimensional axes when it starts (0.15 s) and goes on without them, with a warning. None is drawn here.
if "mpl_toolkits.mplot3d" not in sys.modules:
    warnings.filterwarnings("ignore", message="Unable to import Axes3D")
    sys.modules["mpl_toolkits.mplot3d"] = None  # type: ignore[assignment]
