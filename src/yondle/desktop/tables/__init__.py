"""Tables brought in, and figures typed into a grid."""
