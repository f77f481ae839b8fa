"""Areas of a lead, found again in its followers."""
