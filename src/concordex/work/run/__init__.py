"""Running a change: guards, sending, staging, reading back."""
