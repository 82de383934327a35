"""Tolerance ellipse of two correlated quantities whose means and SDs are known."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Bivariate:
    """Means, SDs and correlation of two quantities in a reference group."""

    mean: tuple[float, float]
    sd: tuple[float, float]
    r: float

    def share_nearer(self, x: Floats, y: Floats) -> Floats:
        """Share of the group inside the ellipse through a point.

        Parameters
        ----------
        x, y : ndarray, shape (n,)
            The two quantities, in the units of ``mean``.

        Returns
        -------
        ndarray, shape (n,)
            Between 0 at the mean and 1 far from it: the chi-square distribution with two degrees
            of freedom at the squared Mahalanobis distance.

        See Also
        --------
        ellipse : Points of the ellipse of a share.

        References
        ----------
        Johnson RA, Wichern DW. Applied Multivariate Statistical Analysis (6th edition),
        section 4.2.

        Examples
        --------
        >>> import numpy as np
        >>> group = Bivariate((0.0, 0.0), (1.0, 1.0), 0.0)
        >>> group.share_nearer(np.array([0.0, 2.4477]), np.array([0.0, 0.0])).round(3)
        array([0.  , 0.95])
        """
        u, v = (x - self.mean[0]) / self.sd[0], (y - self.mean[1]) / self.sd[1]
        squared = (u * u - 2 * self.r * u * v + v * v) / (1 - self.r**2)
        return np.asarray(-np.expm1(-squared / 2), dtype=float)

    def ellipse(self, share: float, points: int = 181) -> Floats:
        """Points of the ellipse that holds a share of the group.

        Parameters
        ----------
        share : float
            Between 0 and 1.
        points : int
            Number of points; the last is the first again.

        Returns
        -------
        ndarray, shape (2, points)
            First and second quantity.
        """
        radius = np.sqrt(-2 * np.log1p(-share))
        turn = np.linspace(0, 2 * np.pi, points)
        u, w = radius * np.cos(turn), radius * np.sin(turn)
        v = self.r * u + np.sqrt(1 - self.r**2) * w
        return np.vstack([self.mean[0] + self.sd[0] * u, self.mean[1] + self.sd[1] * v])
