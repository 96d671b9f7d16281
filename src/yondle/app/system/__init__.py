"""What the desktop and the system are asked for: coming back after a login, staying awake, menu entries, the helper."""
