"""What an unattended installer is told: answer files in whatever format it reads."""
