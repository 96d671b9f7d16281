"""What several subjects show: gains, what was measured at a setting, proof, words of steps."""
