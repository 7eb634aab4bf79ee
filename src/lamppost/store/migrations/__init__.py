"""The database's tables, as SQL files in their order."""
