"""The study file: schema, migrations, reading and commands."""
