"""The keyring: secrets encrypted with a key that is not in the database."""

from nimble_stone.keyring.vault import Vault

__all__ = ["Vault"]
