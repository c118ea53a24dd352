"""What people do, through the program itself."""
