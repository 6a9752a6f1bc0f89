"""What follows levels and turns them: detectors, dynamics, limiters."""
