"""Files and folders by descriptors."""
