"""The Django project, in five layers: pages, work, authority, estate, ground.

Each may import only those below it.
"""
