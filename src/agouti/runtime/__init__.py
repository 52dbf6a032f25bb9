"""What the process needs: forks, lazy imports, atomic files."""
