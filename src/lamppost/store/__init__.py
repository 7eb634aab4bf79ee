"""PostgreSQL: the private server, migrations, and one module per aggregate with plain SQL. Knows core."""
