"""What plays: a recording through a strip that may change, what is listened to, and what is shown of it."""
