"""What makes Yondle known to a desktop: menu entry, icons, kind of file, description."""
