"""Pictures of sound. Know no document: they are given what they show."""
