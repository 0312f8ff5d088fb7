"""Forward and reverse: does each address point back at its name?"""
