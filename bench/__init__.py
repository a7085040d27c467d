"""Measurements that the project states: python -m bench"""
