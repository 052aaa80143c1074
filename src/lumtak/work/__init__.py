"""What is done at each station of a job, without a screen: the command line and the workbench both call this."""
