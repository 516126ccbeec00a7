"""What a user gives: options, files, the environment and the project file, as core objects."""
