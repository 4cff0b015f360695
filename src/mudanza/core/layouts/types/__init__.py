"""The types of fields: each reads, renders, states and checks itself. `FieldType` is any of them."""

from mudanza.core.layouts.types.bounds import Bound, Bounds
from mudanza.core.layouts.types.cell import Cell
from mudanza.core.layouts.types.form import FormType
from mudanza.core.layouts.types.moment import DateType
from mudanza.core.layouts.types.number import NumberType
from mudanza.core.layouts.types.text import TextType
from mudanza.core.layouts.types.yesno import YesNoType

FieldType = TextType | NumberType | DateType | YesNoType | FormType

__all__ = ["Bound", "Bounds", "Cell", "DateType", "FieldType", "FormType", "NumberType", "TextType", "YesNoType"]
