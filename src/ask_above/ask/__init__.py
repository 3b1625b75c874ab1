"""The administrator's questions, one module or folder for each that the command line names."""
