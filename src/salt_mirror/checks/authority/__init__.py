"""The authority of a zone: who serves it, which version, who sends people there."""
