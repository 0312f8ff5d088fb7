"""Vantages: other machines that ask for us, and how questions travel to them and answers back."""
