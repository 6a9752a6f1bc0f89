"""Many strips at work: in the order of their wires, in time with each other, each with settings that may change."""
