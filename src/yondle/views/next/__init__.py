"""What is worth trying next, and climbs toward a goal, as a logbook tells them."""
