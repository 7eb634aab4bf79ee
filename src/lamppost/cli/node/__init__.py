"""Commands that start a node on this machine, or put a backup into its data folder. They use the service itself, not its HTTP interface."""
