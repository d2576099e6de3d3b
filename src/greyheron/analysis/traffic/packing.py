"""Traffic that was seen as bytes, to be kept."""

from io import BytesIO

import numpy as np

from greyheron.analysis.traffic.folding import SEEN_ARRAYS, SeenTraffic

_LOW = (1 << 64) - 1


def packed(seen: SeenTraffic) -> bytes:
    """What `unpacked` reads as `seen`."""
    buffer = BytesIO()
    np.savez_compressed(
        buffer,
        six=np.array([six for six, _ in seen.addresses], dtype=np.bool_),
        high=np.array([value >> 64 for _, value in seen.addresses], dtype=np.uint64),
        low=np.array([value & _LOW for _, value in seen.addresses], dtype=np.uint64),
        errors=np.array([seen.errors], dtype=np.int64),
        **{name: getattr(seen, name) for name in SEEN_ARRAYS},
    )
    return buffer.getvalue()


def unpacked(content: bytes) -> SeenTraffic:
    with np.load(BytesIO(content), allow_pickle=False) as held:
        values = zip(held["six"].tolist(), held["high"].tolist(), held["low"].tolist(), strict=True)
        addresses = tuple((six, high << 64 | low) for six, high, low in values)
        arrays = {name: held[name] for name in SEEN_ARRAYS}
        return SeenTraffic(addresses=addresses, errors=int(held["errors"][0]), **arrays)
