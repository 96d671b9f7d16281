"""The one engine that tries a step on a rig, writes down what happened, and leaves the rig at a known setup."""
