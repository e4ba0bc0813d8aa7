package job

import _ "github.com/fsnotify/fsnotify"
