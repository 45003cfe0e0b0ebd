import { createRouter, createWebHistory } from 'vue-router'
import ProjectsView from './views/ProjectsView.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: ProjectsView },
    { path: '/projects/:id(\\d+)/:layer?', component: () => import('./views/ProjectView.vue'), props: true },
    { path: '/:rest(.*)*', component: () => import('./views/NowhereView.vue') },
  ],
})
