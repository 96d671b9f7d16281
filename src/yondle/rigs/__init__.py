"""The machines Yondle steps: a simulated one, this one; each satisfies the engine's ports by shape."""
