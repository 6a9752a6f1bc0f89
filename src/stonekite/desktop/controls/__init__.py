"""What is clicked, typed and dragged, and the colours of all of it. Knows no session."""
