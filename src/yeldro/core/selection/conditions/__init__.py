"""What people write as conditions and checks: read, tried, and doubted."""
