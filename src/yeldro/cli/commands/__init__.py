"""What each command does, once its options are read."""
