/** The standard's roles that people have (Part 18, 4.2). A site may have others beside them. */
export const roles = ['Observer', 'Operator', 'Engineer', 'Supervisor', 'ConfigureAdmin', 'SecurityAdmin'];
