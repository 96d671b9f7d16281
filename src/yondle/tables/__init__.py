"""Tables in and out: sheets read as cells, recognised for what their columns are, and written again."""
