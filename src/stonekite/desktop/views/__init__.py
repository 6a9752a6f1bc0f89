"""What stands in the large middle of the window, and the listen panel."""
