"""The seven stations of a job, a module each."""
