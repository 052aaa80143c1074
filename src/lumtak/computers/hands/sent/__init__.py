"""What is sent to a computer: the standard library only, in the language of Python 3.8."""
