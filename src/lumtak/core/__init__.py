"""What is true of any computer: no files, no clock, no screen, no operating system."""
