/* Rust opens /dev/null where standard output is closed, before main: afterwards nobody can tell that from an output that
   was sent there on purpose. Whether it was closed is kept in the environment. */

#include <fcntl.h>
#include <stdlib.h>

__attribute__((constructor)) static void look(void) {
    if (fcntl(1, F_GETFD) == -1)
        setenv("DECANTER_STDOUT_CLOSED", "1", 1);
    else
        unsetenv("DECANTER_STDOUT_CLOSED");
}
