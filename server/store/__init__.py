"""What all who speak to the database share."""
