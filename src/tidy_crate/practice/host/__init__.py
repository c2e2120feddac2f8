"""A small host application with a format of its own, to practise scene sheets with."""
