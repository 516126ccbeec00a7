"""What a person at a terminal sees and is asked, and the files that are written beside."""
