"""What a user does, by what it is about: plain functions that are given the application."""
