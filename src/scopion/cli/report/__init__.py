"""Commands that look back: report and map."""
