"""Files read safely, with the line of each key: JSON, TOML, YAML, XML, properties, plain text."""
