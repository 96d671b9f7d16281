"""What places with a large chart share: the page, copying and saving, and the parts of charts."""
