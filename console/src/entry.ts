// The console is begun by the page when the first view is painted (first/first.js).
void import('./main')
