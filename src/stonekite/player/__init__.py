"""The playing process: engine and output. No widgets."""
