"""The compressions that the practice renderer writes, by the names that farms and scenes use."""

from __future__ import annotations

COMPRESSIONS = ("none", "rle", "zips", "zip", "piz", "pxr24", "dwaa", "dwab")
