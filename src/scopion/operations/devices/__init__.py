"""Questions about devices and events: lists, cards, searches and comparisons. Nothing here changes the roster."""
