"""What others get to see of a logbook: pictures and documents, the same bytes for the same input."""
