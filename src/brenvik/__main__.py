from brenvik.cli.main import main

main()
