"""Salt Mirror: are DNS records registered, do forward and reverse agree, have changes propagated?"""

__version__ = "0.1.0"
