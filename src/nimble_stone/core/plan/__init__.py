"""Plans: the plan file and its resolution into the sheet."""
