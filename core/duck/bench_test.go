package duck
