"""The machine Yondle runs on, through public kernel interfaces only."""
