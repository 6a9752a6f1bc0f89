from stonekite.cli import main

main()
