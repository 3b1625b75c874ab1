"""Who the people are: members, their groups, their assignments, and the register they make up."""
