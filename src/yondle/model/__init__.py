"""The words of the trade as frozen, typed values; standard library only."""
