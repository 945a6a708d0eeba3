import 'ant-design-vue/dist/reset.css'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import App from './App.vue'
import { keepAccessible } from './look/accessible'
import { reloadMissing } from './look/reloading'
import { router } from './router'
import { texts } from './texts'
import './style.css'

reloadMissing()
createApp(App).use(createPinia()).use(texts).use(router).mount('#app')
keepAccessible()
