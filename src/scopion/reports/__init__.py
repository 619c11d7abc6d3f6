"""Looking back: tables, figures, and the page. The only room that may import NumPy and Matplotlib."""
