"""The steps from one version of the schema to the next."""
