"""The register in a database, with its journal."""
