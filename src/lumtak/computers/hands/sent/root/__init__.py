"""What takes root."""
