import '@fontsource-variable/source-sans-3'
import 'element-plus/dist/index.css'
import 'element-plus/theme-chalk/dark/css-vars.css'
import './styles.css'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import App from './App.vue'
import { i18n } from './i18n'
import { tellMistakes } from './lib/mistakes'
import { router } from './router'

const app = createApp(App)
tellMistakes(app)
app.use(createPinia()).use(i18n).use(router).mount('#app')
