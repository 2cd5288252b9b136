from lomrix.api import (
    apply as apply,
)
from lomrix.api import (
    export as export,
)
from lomrix.api import (
    format_account as format_account,
)
from lomrix.api import (
    make_step as make_step,
)
from lomrix.api import (
    make_table as make_table,
)
from lomrix.api import (
    read as read,
)
from lomrix.api import (
    to_arrow as to_arrow,
)
from lomrix.api import (
    to_numpy as to_numpy,
)
from lomrix.api import (
    write as write,
)
from lomrix.core.errors import (
    DataError as DataError,
)
from lomrix.core.errors import (
    FileError as FileError,
)
from lomrix.core.errors import (
    LomrixError as LomrixError,
)
from lomrix.core.errors import (
    SettingError as SettingError,
)
from lomrix.core.errors import (
    UsageError as UsageError,
)
from lomrix.core.steps.account import Account as Account
from lomrix.core.steps.step import Result as Result
from lomrix.core.steps.step import Step as Step
from lomrix.core.table.column import Column as Column
from lomrix.core.table.dictionary import Dictionary as Dictionary
from lomrix.core.table.table import Table as Table
from lomrix.files.dictionary_file import read_dictionary as read_dictionary

__version__: str
__all__: list[str]
