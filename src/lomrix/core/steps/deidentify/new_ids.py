"""New ids and shifts that depend on the person and the secret alone, so that every file gets the same ones."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

# Letters and digits without those that are easily mistaken, and without vowels, which could make words.
ALPHABET = np.frombuffer(b"23456789BCDFGHJKMNPQRSTVWXYZ", np.uint8)
LENGTH = 12
SHIFT_DAYS = 180


def keyed_numbers(texts: Sequence[str], secret: str, purpose: str) -> npt.NDArray[np.uint64]:
    """A number for each text that nobody can foretell without the secret.

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


def new_ids(texts: Sequence[str], secret: str) -> list[str]:
    """New ids of twelve signs.

    Among a million people the chance that two get the same one is about one in 400,000 (half a million million pairs
    over 28^12 ids); who takes them looks for that all the same.

    Examples
    --------
    >>> both, one = new_ids(["A1", "B2"], "s"), new_ids(["B2"], "s")
    >>> both[1] == one[0], len(one[0])
    (True, 12)
    """
    # One number of 64 bits holds six signs with hardly any of them likelier than the others.
    signs = np.empty((len(texts), LENGTH), np.uint8)
    for half, purpose in enumerate(("ids", "ids again")):
        numbers = keyed_numbers(texts, secret, purpose).copy()
        for place in range(LENGTH // 2):
            signs[:, half * LENGTH // 2 + place] = ALPHABET[numbers % np.uint64(len(ALPHABET))]
            numbers //= np.uint64(len(ALPHABET))
    text = signs.tobytes().decode()
    return [text[start : start + LENGTH] for start in range(0, len(text), LENGTH)]


def shifts(texts: Sequence[str], secret: str) -> npt.NDArray[np.int64]:
    """Days for each person, from -180 to 180 and never none."""
    numbers = keyed_numbers(texts, secret, "shift")
    days = (numbers >> np.uint64(1)) % np.uint64(SHIFT_DAYS) + np.uint64(1)
    signs = np.where((numbers & np.uint64(1)) != 0, 1, -1)
    return np.asarray(signs * days.astype(np.int64), np.int64)
