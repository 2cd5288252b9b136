"""Storage types of columns, named as in the open Table Schema standard."""

from __future__ import annotations

from typing import Literal, get_args

Type = Literal["integer", "number", "string", "date", "datetime", "boolean"]
TYPES: tuple[Type, ...] = get_args(Type)
