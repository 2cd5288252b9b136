"""New ids and date shifts that depend only on the person and the secret, so that every file gets the same."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

# Letters and digits without easily confused ones, and without vowels, which could form words.
ALPHABET = np.frombuffer(b"23456789BCDFGHJKMNPQRSTVWXYZ", np.uint8)
LENGTH = 12
SHIFT_DAYS = 180


def hash_with_key(texts: Sequence[str], secret: str, purpose: str) -> npt.NDArray[np.uint64]:
    """Return a number for each text that nobody can predict without the secret.

    Parameters
    ----------
    texts
        The n old ids.
    secret
        What the numbers depend on.
    purpose
        A word; numbers for different purposes have nothing to do with each other.

    Returns
    -------
    uint64 array of n numbers, the same for a text whatever other texts there are.

    References
    ----------
    M.-J. Saarinen and J.-P. Aumasson, "The BLAKE2 Cryptographic Hash and Message Authentication Code", RFC 7693 (2015),
    section 2.9: keyed hashing.
    """
    key = hashlib.sha256(f"{purpose}\0{secret}".encode()).digest()
    digests = b"".join(hashlib.blake2b(text.encode(), key=key, digest_size=8).digest() for text in texts)
    return np.frombuffer(digests, "<u8")


def make_ids(texts: Sequence[str], secret: str) -> list[str]:
    """Make ids of twelve characters.

    Among a million people two get the same one with a probability of about 1 in 400,000 (half a million million pairs
    over 28^12 ids); callers check for it.

    Examples
    --------
    >>> both, one = make_ids(["A1", "B2"], "s"), make_ids(["B2"], "s")
    >>> both[1] == one[0], len(one[0])
    (True, 12)
    """
    # A 64-bit number yields six almost uniformly distributed characters.
    characters = np.empty((len(texts), LENGTH), np.uint8)
    for half, purpose in enumerate(("ids", "ids again")):
        numbers = hash_with_key(texts, secret, purpose).copy()
        for index in range(LENGTH // 2):
            characters[:, half * LENGTH // 2 + index] = ALPHABET[numbers % np.uint64(len(ALPHABET))]
            numbers //= np.uint64(len(ALPHABET))
    text = characters.tobytes().decode()
    return [text[start : start + LENGTH] for start in range(0, len(text), LENGTH)]


def make_shifts(texts: Sequence[str], secret: str) -> npt.NDArray[np.int64]:
    """Return days for each person, from -180 to 180 and never 0."""
    numbers = hash_with_key(texts, secret, "shift")
    days = (numbers >> np.uint64(1)) % np.uint64(SHIFT_DAYS) + np.uint64(1)
    directions = np.where((numbers & np.uint64(1)) != 0, 1, -1)
    return np.asarray(directions * days.astype(np.int64), np.int64)
