"""Records lent out in a workbook for others to correct, and taken back."""
