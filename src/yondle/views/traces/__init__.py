"""What the sensors said during a test."""
