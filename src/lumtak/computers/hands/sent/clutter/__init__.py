"""What may be set aside: found, compared, moved."""
