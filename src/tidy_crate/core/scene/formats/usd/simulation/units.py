"""Units of a physics scene, and the rigid part of a pose."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Usd, UsdGeom, UsdPhysics

from tidy_crate.core.errors import UnreadableInput


@dataclass(frozen=True)
class Units:
    """Units of a scene in SI units."""

    metres: float
    """Metres in one scene unit of length."""
    kilograms: float
    """Kilograms in one scene unit of mass."""

    @classmethod
    def of(cls, stage: Usd.Stage) -> Units:
        """Return the units of a stage. Raises UnreadableInput on one that is not above zero."""
        found = cls(UsdGeom.GetStageMetersPerUnit(stage), UsdPhysics.GetStageKilogramsPerUnit(stage))
        if not (found.metres > 0 and found.kilograms > 0):
            raise UnreadableInput(
                "the scene's units of length and mass must be above zero", stage.GetRootLayer().identifier
            )
        return found


def rigid_part(
    matrix: NDArray[np.float64], unit: float
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Place in metres and turn of a matrix, and what is left of it: its scale, mirror and shear, in its own space."""
    whole = Gf.Matrix4d(matrix.tolist()).RemoveScaleShear()
    quaternion = whole.ExtractRotationQuat().GetNormalized()
    orientation = np.array([quaternion.GetReal(), *quaternion.GetImaginary()])
    pose = np.eye(4)
    pose[:3, :3] = np.array(Gf.Matrix3d(quaternion))
    pose[3, :3] = matrix[3, :3]
    return matrix[3, :3] * unit, orientation, matrix @ np.linalg.inv(pose)
