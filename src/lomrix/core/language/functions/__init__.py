"""The functions of the language, by kind; importing this package registers all of them."""

from lomrix.core.language.functions import across, course, dates, groups, missing, numbers, texts
from lomrix.core.language.functions import ranks as standing

# The kinds of functions, in the order of the help.
KINDS = tuple(one.KIND for one in (numbers, across, course, groups, standing, dates, texts, missing))

__all__ = ["KINDS", "across", "course", "dates", "groups", "missing", "numbers", "standing", "texts"]
