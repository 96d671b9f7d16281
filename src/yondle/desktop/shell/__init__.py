"""The window around the places: its bar and foot, the first page, the command list, starting and stopping."""
