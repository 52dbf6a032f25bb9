"""The call loop, one attempt, what follows a failure, and hook calls."""
