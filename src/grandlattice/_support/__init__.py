"""What has nothing to do with pictures: folders, processes, text of numbers, the user's cache."""
