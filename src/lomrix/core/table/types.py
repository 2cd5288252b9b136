"""The storage types of columns, named as the open Table Schema standard names them."""

from __future__ import annotations

from typing import Literal, get_args

Type = Literal["integer", "number", "string", "date", "datetime", "boolean"]
TYPES: tuple[Type, ...] = get_args(Type)
