"""Make the blue-noise masks that ship with the application; needs to run only when their method changes."""

from __future__ import annotations

import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))

from greyanchor.core.separation.halftone.blue_noise import MASKS, SIDE
from greyanchor.core.separation.halftone.voidcluster import void_and_cluster


def main() -> None:
    """Eight masks, one for each ink that a printer may have."""
    with ThreadPoolExecutor() as pool:
        made = list(pool.map(lambda seed: void_and_cluster(SIDE, SIDE, seed), range(8)))
    np.savez_compressed(MASKS, **{f"mask{i}": m.astype(np.uint16) for i, m in enumerate(made)})
    print(f"{MASKS.name}: {MASKS.stat().st_size / 2**20:.2f} MB")


if __name__ == "__main__":
    main()
