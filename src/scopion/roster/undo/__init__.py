"""The record of what people change, row by row, and how a change is taken back."""
