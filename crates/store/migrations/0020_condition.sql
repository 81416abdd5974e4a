-- Which messages a subscriber asked for, as an expression; null if all.
ALTER TABLE subscription ADD COLUMN condition text;
