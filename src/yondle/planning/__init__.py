"""What to try next, as generators that yield plain messages and are told what happened."""
