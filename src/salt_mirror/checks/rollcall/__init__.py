"""The roll call: is every expected record registered everywhere?"""
