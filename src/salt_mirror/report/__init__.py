"""Reports: findings shown on a terminal or written as JSON. Decides nothing."""
