"""What people say of devices, going through the new ones, and taking changes back."""
