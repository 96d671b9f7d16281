"""What runs as root, and nothing else; installed, this folder is copied as it is."""
