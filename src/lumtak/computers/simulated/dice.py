"""The random number generator of a simulated computer, as it is kept between two steps."""

import numpy as np


def dice(seed: int, saved: dict[str, list[int]]) -> np.random.Philox:
    """The generator (Philox 4x64) of a seed, as it was saved; else from its beginning."""
    bits = np.random.Philox(key=seed)
    if saved:
        bits.state = {
            "bit_generator": "Philox",
            "state": {
                "counter": np.array(saved["counter"], dtype=np.uint64),
                "key": np.array(saved["key"], dtype=np.uint64),
            },
            "buffer": np.array(saved["buffer"], dtype=np.uint64),
            "buffer_pos": saved["rest"][0],
            "has_uint32": saved["rest"][1],
            "uinteger": saved["rest"][2],
        }
    return bits


def saved(bits: np.random.Philox) -> dict[str, list[int]]:
    """Its state, for saving."""
    state = bits.state
    return {
        "counter": [int(x) for x in state["state"]["counter"]],
        "key": [int(x) for x in state["state"]["key"]],
        "buffer": [int(x) for x in state["buffer"]],
        "rest": [int(state["buffer_pos"]), int(state["has_uint32"]), int(state["uinteger"])],
    }
