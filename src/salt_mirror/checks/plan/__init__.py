"""From findings to a plan: changes merged into sets without contradiction, and proved by judging again."""
