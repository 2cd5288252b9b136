"""To balanced: a panel in which every case has every occasion."""
