import '@fontsource-variable/source-sans-3'
import 'element-plus/dist/index.css'
import 'element-plus/theme-chalk/dark/css-vars.css'
import './styles.css'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import { Told } from './api/client'
import App from './App.vue'
import { i18n } from './i18n'
import { router } from './router'

// what somebody was told of is no error of the page any more
window.addEventListener('unhandledrejection', (e) => {
  if (e.reason instanceof Told) e.preventDefault()
})
createApp(App).use(createPinia()).use(i18n).use(router).mount('#app')
