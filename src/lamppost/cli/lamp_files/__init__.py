"""Commands that work on lamp files, without a service but for those of stored versions: make, look into, prove, sign, open."""
