"""What people look at."""
