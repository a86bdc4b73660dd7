"""Narrowing and ranking many records, and three-way merging of edits."""
