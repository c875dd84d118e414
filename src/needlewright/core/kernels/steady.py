"""Arrays as kernels take them: read-only, whoever owns the bytes.

Numba compiles a kernel once for arrays that can be written to and once for those that cannot, and
data comes both ways: out of bytes, and out of buffers that are read into.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt


def read_only(data: npt.NDArray[np.uint8]) -> npt.NDArray[np.uint8]:
    """The same bytes as an array that cannot be written to."""
    if not data.flags.writeable:
        return data
    view = data.view()
    view.flags.writeable = False
    return view
