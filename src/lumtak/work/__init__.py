"""What is done at each station of a job, without a screen.

The command line and the workbench both call this.
"""
