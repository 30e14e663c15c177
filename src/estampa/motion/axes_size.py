"""Size by axes: larger or smaller along each of a subject's own axes."""

import numpy as np

from ..kinds.channels import number
from .layer import Deformer


class AxesSize(Deformer):
    """Scales the subject about where it stands, along each of its own axes by itself: squash and stretch of files that
    key a size by axes comes in as this.

    Things that ride on the subject keep their own shape, and go where they went.
    """

    kind, title = "axes_size", "Size by axes"
    icon = "M5 8 H11 V14 H5 Z M8 6 V1.5 M6.5 3 L8 1.5 L9.5 3 M12.5 11 H15 M13.8 9.7 L15 11 L13.8 12.3"
    group = "bend"

    size_x = number(1, "Size along its own X; below 0 mirrored.", title="Along X", unit="factor", soft=(0, 3))
    size_y = number(1, "Size along its own Y.", title="Along Y", unit="factor", soft=(0, 3))
    size_z = number(1, "Size along its own Z.", title="Along Z", unit="factor", soft=(0, 3))

    def apply(self, points, v, now):
        return points * np.stack([v.size_x, v.size_y, v.size_z], axis=1)[:, None]
