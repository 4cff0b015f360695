"""Records and decisions lent out in workbooks, and taken back."""
