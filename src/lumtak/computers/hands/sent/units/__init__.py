"""Units and login entries as the service manager and the desktop resolve them."""
